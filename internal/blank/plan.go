package blank

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"time"

	"zipstamp/internal/layout"
)

// Wanted is what a card is to become: a partition table with one partition, and a file system in it.
type Wanted struct {
	FileSystem layout.FSKind // FAT16Kind, FAT32Kind or ExFATKind; empty: by the card's size
	Label      string        // as layout.Label gives it
	Disk       uint32        // signature of the partition table
	Serial     uint32        // of the file system
	Time       time.Time
	Files      []layout.NewFile // in a FAT file system
}

// Plan is a card that has been laid out.
type Plan struct {
	layout.New
	FAT         *layout.FATPlan // the same, where it is one; nil otherwise
	Label       string
	Start, Size int64 // of the partition, bytes
	table       []byte
}

// sdxc is the size from which on cards have exFAT, bytes: those of more than 32 GB, which the SD Association calls SDXC
// (SD Specifications, Part 2, File System).
const sdxc = 32 << 30

// Kind is the file system that an empty card of a size has, if nobody wants another one: exFAT on large cards, as the
// SD Association's standard has it, FAT32 on others, and FAT16 on those that are too small for that.
func Kind(size int64, sector int) layout.FSKind {
	if size > sdxc {
		return layout.ExFATKind
	}
	return fatFor(size, sector)
}

// fatFor is the FAT that boards start from on a card of a size.
func fatFor(size int64, sector int) layout.FSKind {
	if _, err := (Wanted{FileSystem: layout.FAT32Kind}).For(size, sector); errors.As(err, new(*TooSmallError)) {
		return layout.FAT16Kind
	}
	return layout.FAT32Kind
}

// small is below which cards have small units too, and are not aligned to layout.AlignTo, bytes.
const small, smallAlign = 48 << 20, 64 << 10

// For lays out a card of a size, of which each sector has so many bytes. The error is a *TooSmallError, a
// *layout.NoRoomError or a *layout.FileError.
func (w Wanted) For(size int64, sector int) (*Plan, error) {
	kind := w.FileSystem
	switch {
	case kind == "" && len(w.Files) > 0:
		kind = fatFor(size, sector)
	case kind == "":
		kind = Kind(size, sector)
	}
	align := int64(layout.AlignTo)
	switch {
	case kind == layout.ExFATKind:
		align = layout.ExFATAlign(size)
	case size < small:
		align = smallAlign
	}
	size = min(size/int64(sector), layout.MostSectors) * int64(sector)
	p := &Plan{Label: w.Label, Start: align, Size: (size - align) / align * align}
	var err error
	if p.Size > 0 {
		err = p.layOut(w, kind, sector, align)
	}
	switch {
	case p.Size <= 0, errors.Is(err, layout.ErrTooSmall):
		return nil, &TooSmallError{size, kind, least(kind, sector)}
	case err != nil:
		return nil, err
	}
	p.table = make([]byte, sector)
	mbr := layout.MBR(w.Disk, layout.Partition{
		Type: p.PartitionType(), Active: len(w.Files) > 0, Start: uint32(p.Start / int64(sector)),
		Sectors: uint32(p.Size / int64(sector)),
	})
	copy(p.table, mbr[:])
	return p, nil
}

func (p *Plan) layOut(w Wanted, kind layout.FSKind, sector int, align int64) (err error) {
	if kind == layout.ExFATKind {
		p.New, err = layout.NewExFAT{
			Label: w.Label, Serial: w.Serial, Sector: sector, Start: p.Start, Size: p.Size,
		}.Plan()
		return err
	}
	p.FAT, err = layout.NewFAT{
		Wanted: kind, Label: w.Label, Serial: w.Serial, Sector: sector, Start: p.Start, Size: p.Size, Align: align,
		Time: w.Time, Files: w.Files,
	}.Plan()
	p.New = p.FAT
	return err
}

// Head is the card from its start on to the end of the file system's metadata: the partition table, zeros, and that.
func (p *Plan) Head() io.Reader {
	return io.MultiReader(bytes.NewReader(p.table), layout.Zeros(p.Start-int64(len(p.table))), p.Metadata())
}

// HeadSize is how many bytes that is.
func (p *Plan) HeadSize() int64 { return p.Start + p.MetadataSize() }

// TooSmallError says that a card is too small for a file system.
type TooSmallError struct {
	Size  int64 // of the card, bytes
	Kind  layout.FSKind
	Least int64 // about what the card must have, bytes
}

func (e *TooSmallError) Error() string {
	return fmt.Sprintf("%d bytes are too few for %s, which needs some %d", e.Size, e.Kind, e.Least)
}

// least is about how large a card must be, bytes. It tries sizes: what is needed depends on how the parts are aligned.
func least(kind layout.FSKind, sector int) int64 {
	const step, most = 1 << 20, 1 << 30
	for size := int64(step); size < most; size += step {
		if (&Plan{Start: smallAlign, Size: size}).layOut(Wanted{}, kind, sector, smallAlign) == nil {
			return size + step
		}
	}
	return most
}
