package layout

import (
	"errors"
	"io"
	"slices"
)

// Kind is what a disk or image is, as a whole.
type Kind string

// The kinds.
const (
	KindDisk Kind = "disk" // a partition table, with partitions
	// an optical disc that can be written to a card too: most are installers for PCs
	KindDisc       Kind = "hybrid disc"
	KindPlainDisc  Kind = "optical disc" // one that has no partition table, so that nothing starts from a card with it
	KindFileSystem Kind = "file system"  // one without a partition table
	KindBlank      Kind = "blank"        // zeros
	KindUnknown    Kind = "unknown"
)

// Disk is what is on a disk, or in an image of one.
type Disk struct {
	Kind   Kind
	Table  Table
	Whole  FileSystem // that of the whole disk, where it has no partition table, or is a disc
	Parts  []Content  // one for each partition of the table
	Boot   *Boot      // of the first partition that a board may start from; nil if there is none
	BootOn int        // that partition's number; 0 is the whole disk
	Lost   error      // why not all could be read: the image ends, or is damaged; nil if all was
}

// Content is what a partition holds.
type Content struct {
	Part
	FileSystem
}

// Describe finds out what is on a disk of size bytes, with sectors of so many (SectorSize for images); size is 0 where
// it isn't known. It reads from the front to the back,
// and no more than it must. The error is one of r, where not even the partition table could be read.
func Describe(r io.ReaderAt, size int64, sector int) (Disk, error) {
	table, err := ReadTable(r, size, sector)
	d := Disk{Table: table}
	if err != nil {
		return d, err
	}
	whole, err := Identify(r)
	if err != nil {
		return d, err
	}
	switch {
	case whole.Kind == ISOKind && table.Scheme == NoTable:
		d.Kind, d.Whole = KindPlainDisc, whole
	case whole.Kind == ISOKind:
		d.Kind, d.Whole = KindDisc, whole
	case table.Scheme != NoTable:
		d.Kind = KindDisk
	case whole.Kind != "":
		d.Kind, d.Whole = KindFileSystem, whole
		if whole.Kind.IsFAT() {
			d.readBoot(r, 0)
		}
	default:
		d.Kind = KindUnknown
		if blank, err := isBlank(r); err == nil && blank {
			d.Kind = KindBlank
		}
	}
	for _, p := range table.Parts {
		c := Content{Part: p}
		if !isExtended(p.ID) && d.Lost == nil {
			part := io.NewSectionReader(r, p.Start, max(p.Length, 0))
			c.FileSystem, d.Lost = Identify(part)
			if d.Boot == nil && c.Kind.IsFAT() {
				d.readBoot(part, p.Number)
			}
		}
		d.Parts = append(d.Parts, c)
	}
	return d, nil
}

// FileSystems are the kinds that are on it, each once.
func (d Disk) FileSystems() (kinds []FSKind) {
	add := func(k FSKind) {
		if k != "" && !slices.Contains(kinds, k) {
			kinds = append(kinds, k)
		}
	}
	add(d.Whole.Kind)
	for _, p := range d.Parts {
		add(p.Kind)
	}
	return kinds
}

func (d *Disk) readBoot(r io.ReaderAt, number int) {
	if v, err := OpenFAT(r); err == nil {
		d.Boot, d.BootOn = ReadBoot(v), number
	}
}

// isBlank tells whether the first MiB is zero.
func isBlank(r io.ReaderAt) (bool, error) {
	buf := make([]byte, 1<<20)
	n, err := r.ReadAt(buf, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	for _, b := range buf[:n] {
		if b != 0 {
			return false, nil
		}
	}
	return n > 0, nil
}
