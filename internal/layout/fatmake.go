package layout

import (
	"bytes"
	"fmt"
	"io"
	"path"
	"strings"
	"time"
)

// Partition types of FAT, addressed by sector number.
const (
	TypeFAT16LBA = 0x0E
	TypeFAT32LBA = 0x0C
)

// Constants of FAT (Microsoft's "FAT: General Overview of On-Disk Format", 1.03, sections 3.1 to 6; ECMA-107).
const (
	fatCount         = 2
	fat16Reserved    = 4 // sectors, at least: ours
	fat32Reserved    = 32
	fat32Backup      = 6 // where the copies of the first sectors start
	fat16Root        = 512
	fat16RootMost    = 65_504
	minFAT16Clusters = fat12Max + clustersApart
	maxFAT16Clusters = fat16Max - 1 - clustersApart
	minFAT32Clusters = fat16Max + clustersApart
	maxFAT32Clusters = 0x0FFFFFF5
	endOfChain       = 0x0FFFFFFF // in entry 1, too: in order, without errors; FAT16 has half of it
	dirEntrySize     = 32
	mediaFixed       = 0xF8
	fatFileMost      = 1<<32 - 1 // bytes

	// clustersApart is how far the number of clusters is from those that tell the kinds of FAT apart, since not all
	// drivers draw the line there (section 3.5).
	clustersApart = 16

	attrVolume    = 0x08
	attrDirectory = 0x10
	attrArchive   = 0x20
	lowerBase     = 0x08 // in NTRes: the name's base is in lower case
	lowerExt      = 0x10
)

// NewFAT is a FAT16 or FAT32 file system to be made.
type NewFAT struct {
	Wanted FSKind // FAT16Kind or FAT32Kind
	Label  string // as Label gives it; may be empty
	Serial uint32
	Sector int       // logical sector of the card, bytes
	Start  int64     // of the volume on the card, bytes
	Size   int64     // of the volume, bytes
	Align  int64     // to which the data area is aligned on the card, bytes; 0: not at all
	Time   time.Time // of the label and the folders
	Files  []NewFile
}

// NewFile is a file in a file system to be made. The folders above it are made too.
type NewFile struct {
	Path     string // with slashes
	Folder   bool   // an empty folder
	Size     int64
	Modified time.Time // in UTC, as its entry has it; zero: that of the file system
}

// FATPlan is a FAT file system that has been laid out: folders first, and behind them the files, one after the other,
// in their order.
type FATPlan struct {
	NewFAT
	total, reserved, fat, cluster, clusters int64 // sectors; clusters of them
	rootEntries                             int64 // of a FAT16
	folders                                 []*folder
	files                                   []run
	runs                                    []run // of all, one behind the other
}

// run is clusters that follow each other. A file without bytes has none, and 0 for the first.
type run struct{ first, count int64 }

// folder is a folder to be made; the first is the root.
type folder struct {
	path, name string
	parent     *folder
	modified   time.Time
	entries    []*newEntry
	names      map[string]*newEntry // by the name without its case
	run
}

// newEntry is a file or folder in a folder.
type newEntry struct {
	name   string
	folder *folder // nil: it is a file
	file   int     // its number
}

// NoRoomError says that a volume is too small for what it is to hold.
type NoRoomError struct {
	Need, Room int64 // bytes of the volume: that it would have to have, and that it has
}

func (e *NoRoomError) Error() string {
	return fmt.Sprintf("the files need a file system of %d bytes, and there is room for %d", e.Need, e.Room)
}

// Plan lays the file system out. The error is a *FileError, a *NoRoomError, or ErrTooSmall where the volume is too
// small to be such a file system at all.
func (f NewFAT) Plan() (*FATPlan, error) {
	p := &FATPlan{NewFAT: f}
	if err := p.gather(); err != nil {
		return nil, err
	}
	if err := p.shape(); err != nil {
		return nil, err
	}
	return p, p.allocate()
}

// gather makes the tree of folders, and sees whether FAT can hold what is in it.
func (p *FATPlan) gather() error {
	root := &folder{names: map[string]*newEntry{}}
	p.folders = []*folder{root}
	byPath := map[string]*folder{"": root}
	var enter func(dir string) (*folder, error)
	add := func(dir *folder, full, name string, e *newEntry) error {
		if err := nameFault(full, name); err != nil {
			return err
		}
		key := folded(name)
		if other := dir.names[key]; other != nil {
			return &FileError{full, NameTwice, path.Join(dir.path, other.name)}
		}
		dir.names[key] = e
		dir.entries = append(dir.entries, e)
		return nil
	}
	enter = func(dir string) (*folder, error) {
		if known := byPath[dir]; known != nil {
			return known, nil
		}
		above, name := path.Split(dir)
		parent, err := enter(strings.TrimSuffix(above, "/"))
		if err != nil {
			return nil, err
		}
		made := &folder{path: dir, name: name, parent: parent, names: map[string]*newEntry{}}
		if err := add(parent, dir, name, &newEntry{name: name, folder: made}); err != nil {
			return nil, err
		}
		byPath[dir] = made
		p.folders = append(p.folders, made)
		return made, nil
	}
	for i, f := range p.Files {
		if f.Folder {
			made, err := enter(f.Path)
			if err != nil {
				return err
			}
			made.modified = f.Modified
			continue
		}
		above, name := path.Split(f.Path)
		dir, err := enter(strings.TrimSuffix(above, "/"))
		if err != nil {
			return err
		}
		if f.Size > fatFileMost {
			return &FileError{Path: f.Path, Why: FileTooLarge}
		}
		if err := add(dir, f.Path, name, &newEntry{name: name, file: i}); err != nil {
			return err
		}
	}
	for _, dir := range p.folders {
		if dir.length() > folderMax {
			return &FileError{Path: dir.path, Why: FolderFull}
		}
	}
	return nil
}

// length is how many bytes the entries of a folder take at most: each long name counts.
func (d *folder) length() int64 {
	count := int64(2) // itself and the one above; or the label
	for _, e := range d.entries {
		count += 1 + int64(longEntries(e.name))
	}
	return count * dirEntrySize
}

// shape finds the sizes of the parts. The data area is aligned by making the reserved area so long.
func (p *FATPlan) shape() error {
	sector := int64(p.Sector)
	p.total = min(p.Size/sector, MostSectors)
	if p.Wanted == FAT16Kind {
		p.rootEntries = roundUp(max(fat16Root, p.folders[0].length()/dirEntrySize), sector/dirEntrySize)
		if p.rootEntries > fat16RootMost {
			return &FileError{Why: FolderFull}
		}
	}
	for _, cluster := range p.clusterSizes() {
		if p.cluster = cluster / sector; p.cluster < 1 || p.cluster > 128 {
			continue
		}
		p.divide()
		least, most := int64(minFAT32Clusters), int64(maxFAT32Clusters)
		if p.Wanted == FAT16Kind {
			least, most = minFAT16Clusters, maxFAT16Clusters
		}
		if p.clusters >= least && p.clusters <= most {
			return nil
		}
	}
	return ErrTooSmall
}

// clusterSizes are those that come into question, the best first, bytes: 32 KiB on cards of today; on small ones so
// few that it is a FAT32 at all (section 3.5).
func (p *FATPlan) clusterSizes() []int64 {
	switch {
	case p.Wanted == FAT16Kind:
		return []int64{2 << 10, 4 << 10, 8 << 10, 16 << 10, 32 << 10, 1 << 10, 512}
	case p.Size < 260<<20:
		return []int64{512, int64(p.Sector)}
	case p.Size < 4<<30:
		return []int64{4 << 10}
	}
	return []int64{32 << 10}
}

// divide finds what a size of clusters makes of the volume.
func (p *FATPlan) divide() {
	sector, width, least := int64(p.Sector), int64(4), int64(fat32Reserved)
	if p.Wanted == FAT16Kind {
		width, least = 2, fat16Reserved
	}
	entries := p.total/p.cluster + 2
	p.fat = (entries*width + sector - 1) / sector
	own := fatCount*p.fat + p.rootEntries*dirEntrySize/sector
	data := least + own
	if p.Align > 0 {
		data = (roundUp(p.Start+data*sector, p.Align) - p.Start) / sector
	}
	p.reserved = data - own
	p.clusters = (p.total - data) / p.cluster
}

// allocate gives folders and files their clusters.
func (p *FATPlan) allocate() error {
	next := int64(2)
	take := func(bytes int64) run {
		count := (bytes + p.clusterBytes() - 1) / p.clusterBytes()
		if count == 0 {
			return run{}
		}
		r := run{next, count}
		next += count
		p.runs = append(p.runs, r)
		return r
	}
	for i, dir := range p.folders {
		if i > 0 || p.Wanted == FAT32Kind {
			dir.run = take(dir.length())
		}
	}
	for _, f := range p.Files {
		p.files = append(p.files, take(f.Size))
	}
	if next-2 > p.clusters {
		return &NoRoomError{p.at(next), p.Size}
	}
	return nil
}

func (p *FATPlan) clusterBytes() int64 { return p.cluster * int64(p.Sector) }

// data is where the clusters start in the volume, bytes.
func (p *FATPlan) data() int64 {
	return (p.reserved+fatCount*p.fat)*int64(p.Sector) + p.rootEntries*dirEntrySize
}

// Kind is the kind of file system.
func (p *FATPlan) Kind() FSKind { return p.Wanted }

// PartitionType is the type of its partition.
func (p *FATPlan) PartitionType() byte {
	if p.Wanted == FAT16Kind {
		return TypeFAT16LBA
	}
	return TypeFAT32LBA
}

// MetadataSize is how many bytes Metadata has: whole sectors.
func (p *FATPlan) MetadataSize() int64 {
	end := p.data()
	for _, dir := range p.folders {
		end += dir.count * p.clusterBytes()
	}
	return end
}

// Folders is how many folders there are, the root among them.
func (p *FATPlan) Folders() int { return len(p.folders) }

// Used is how many bytes of the volume are used, from its start on: the metadata, and behind it the clusters of all
// files.
func (p *FATPlan) Used() int64 {
	if len(p.runs) == 0 {
		return p.data()
	}
	last := p.runs[len(p.runs)-1]
	return p.at(last.first + last.count)
}

// at is where a cluster starts in the volume, bytes.
func (p *FATPlan) at(cluster int64) int64 { return p.data() + (cluster-2)*p.clusterBytes() }

// Place is where a file is in the volume, bytes from its start; whole clusters.
func (p *FATPlan) Place(file int) Extent {
	r := p.files[file]
	if r.count == 0 {
		return Extent{}
	}
	return Extent{p.at(r.first), r.count * p.clusterBytes()}
}

// Metadata is the reserved area, both file allocation tables, the root and the folders.
func (p *FATPlan) Metadata() io.Reader {
	parts := []io.Reader{bytes.NewReader(p.reservedArea())}
	for range fatCount {
		parts = append(parts, io.LimitReader(&tableReader{p: p}, p.fat*int64(p.Sector)))
	}
	for _, dir := range p.folders {
		length := dir.count * p.clusterBytes()
		if dir.count == 0 {
			length = p.rootEntries * dirEntrySize
		}
		parts = append(parts, &lazyReader{make: func() io.Reader {
			return io.LimitReader(io.MultiReader(bytes.NewReader(p.entriesOf(dir)), zeroReader{}), length)
		}})
	}
	return io.MultiReader(parts...)
}

// WriteTo makes the file system in w, whose offset 0 is the start of the card. data gives the contents of each file; it
// may be nil where there are none.
func (p *FATPlan) WriteTo(w io.WriterAt, data func(file int) []byte) error {
	if err := writeFrom(w, p.Start, p.Metadata()); err != nil {
		return err
	}
	for i, f := range p.Files {
		if f.Size == 0 {
			continue
		}
		at := p.Place(i)
		whole := io.MultiReader(bytes.NewReader(data(i)), Zeros(roundUp(f.Size, int64(p.Sector))-f.Size))
		if err := writeFrom(w, p.Start+at.Offset, whole); err != nil {
			return err
		}
	}
	return nil
}

// lazyReader makes what it reads when it is first asked.
type lazyReader struct {
	make func() io.Reader
	r    io.Reader
}

func (l *lazyReader) Read(p []byte) (int, error) {
	if l.r == nil {
		l.r = l.make()
	}
	return l.r.Read(p)
}

// tableReader is a file allocation table, and zeros behind it.
type tableReader struct {
	p     *FATPlan
	entry int64 // that is next
	run   int   // that it may be in
	left  []byte
	piece [4096]byte
}

func (t *tableReader) Read(b []byte) (int, error) {
	if len(t.left) == 0 {
		t.fill()
	}
	n := copy(b, t.left)
	t.left = t.left[n:]
	return n, nil
}

func (t *tableReader) fill() {
	clear(t.piece[:])
	t.left = t.piece[:]
	wide := t.p.Wanted == FAT32Kind
	width := int64(2)
	if wide {
		width = 4
	}
	put := func(entry int64, value uint32) {
		if at := (entry - t.entry) * width; wide {
			le.PutUint32(t.piece[at:], value)
		} else {
			le.PutUint16(t.piece[at:], uint16(value))
		}
	}
	if t.entry == 0 {
		put(0, 0x0FFFFF00|mediaFixed)
		put(1, endOfChain)
	}
	end := t.entry + int64(len(t.piece))/width
	for ; t.run < len(t.p.runs) && t.p.runs[t.run].first < end; t.run++ {
		r := t.p.runs[t.run]
		last := r.first + r.count - 1
		for e := max(r.first, t.entry); e < min(last+1, end); e++ {
			if e == last {
				put(e, endOfChain)
			} else {
				put(e, uint32(e+1))
			}
		}
		if last >= end {
			break
		}
	}
	t.entry = end
}

// entriesOf are the entries of a folder.
func (p *FATPlan) entriesOf(dir *folder) []byte {
	var b []byte
	switch {
	case dir.parent != nil:
		above := dir.parent.first
		if dir.parent.parent == nil {
			above = 0 // stands for the root (section 6.5)
		}
		b = append(b, p.entry(shortName(".", ""), attrDirectory, dir.first, 0, dir.modified)...)
		b = append(b, p.entry(shortName("..", ""), attrDirectory, above, 0, dir.modified)...)
	case p.Label != "":
		b = append(b, p.entry(fmt.Sprintf("%-11s", p.Label), attrVolume, 0, 0, p.Time)...)
	}
	var names []string
	for _, e := range dir.entries {
		names = append(names, e.name)
	}
	for i, short := range shortNames(names) {
		e := dir.entries[i]
		if needsLong(e.name, short) {
			b = appendLong(b, e.name, short)
		}
		if e.folder != nil {
			b = append(b, p.entry(short, attrDirectory, e.folder.first, 0, e.folder.modified)...)
			continue
		}
		f := p.Files[e.file]
		b = append(b, p.entry(short, attrArchive, p.files[e.file].first, f.Size, f.Modified)...)
	}
	return b
}

// entry is a directory entry (section 6).
func (p *FATPlan) entry(short string, attr byte, cluster, size int64, modified time.Time) []byte {
	e := make([]byte, dirEntrySize)
	copy(e, short)
	e[11] = attr
	if modified.IsZero() {
		modified = p.Time
	}
	date, clock := fatTime(modified)
	le.PutUint16(e[14:], clock)
	le.PutUint16(e[16:], date)
	le.PutUint16(e[18:], date)
	le.PutUint16(e[20:], uint16(cluster>>16))
	le.PutUint16(e[22:], clock)
	le.PutUint16(e[24:], date)
	le.PutUint16(e[26:], uint16(cluster))
	le.PutUint32(e[28:], uint32(size))
	return e
}

// The first and the last time that an entry can have (section 6.1).
var (
	fatFirst = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	fatLast  = time.Date(2107, 12, 31, 23, 59, 58, 0, time.UTC)
)

// FATTime is the time that an entry has for another one: in UTC, to two seconds, from 1980 to 2107.
func FATTime(t time.Time) time.Time {
	t = t.UTC().Truncate(2 * time.Second)
	switch {
	case t.Before(fatFirst):
		return fatFirst
	case t.After(fatLast):
		return fatLast
	}
	return t
}

func fatTime(t time.Time) (date, clock uint16) {
	t = FATTime(t)
	return uint16((t.Year()-1980)<<9 | int(t.Month())<<5 | t.Day()),
		uint16(t.Hour()<<11 | t.Minute()<<5 | t.Second()/2)
}

// reservedArea is all before the tables.
func (p *FATPlan) reservedArea() []byte {
	sector := int64(p.Sector)
	area := make([]byte, p.reserved*sector)
	copy(area, p.bootSector())
	if p.Wanted == FAT32Kind {
		for _, at := range []int64{0, fat32Backup} {
			copy(area[at*sector:], p.bootSector())
			copy(area[(at+1)*sector:], p.infoSector())
			copy(area[(at+2)*sector:], p.signed()) // the third sector has nothing but the signature
		}
	}
	return area
}

// signed is a sector with nothing but the signature of boot sectors.
func (p *FATPlan) signed() []byte {
	b := make([]byte, p.Sector)
	copy(b[mbrEnd:], bootMark)
	return b
}

func (p *FATPlan) bootSector() []byte {
	b := p.signed()
	own := b[36:] // what FAT16 and FAT32 have at different places
	copy(b, []byte{0xEB, 0x3C, 0x90})
	copy(b[3:], "ZIPSTAMP")
	le.PutUint16(b[11:], uint16(p.Sector))
	b[13] = byte(p.cluster)
	le.PutUint16(b[14:], uint16(p.reserved))
	b[16] = fatCount
	le.PutUint16(b[17:], uint16(p.rootEntries))
	b[21] = mediaFixed
	le.PutUint16(b[24:], 63)  // sectors per track and
	le.PutUint16(b[26:], 255) // heads, as for all disks of today
	le.PutUint32(b[28:], uint32(p.Start/int64(p.Sector)))
	if p.Wanted == FAT16Kind && p.total < 1<<16 {
		le.PutUint16(b[19:], uint16(p.total))
	} else {
		le.PutUint32(b[32:], uint32(p.total))
	}
	if p.Wanted == FAT16Kind {
		le.PutUint16(b[22:], uint16(p.fat))
	} else {
		b[1] = 0x58
		le.PutUint32(b[36:], uint32(p.fat))
		le.PutUint32(b[44:], uint32(p.folders[0].first))
		le.PutUint16(b[48:], 1) // where the information sector is
		le.PutUint16(b[50:], fat32Backup)
		own = b[64:]
	}
	label := p.Label
	if label == "" {
		label = "NO NAME"
	}
	own[0], own[2] = 0x80, 0x29
	le.PutUint32(own[3:], p.Serial)
	copy(own[7:], fmt.Sprintf("%-11s%-8s", label, p.Wanted))
	return b
}

// infoSector tells how many clusters are free (section 5).
func (p *FATPlan) infoSector() []byte {
	b := p.signed()
	used := int64(0)
	for _, r := range p.runs {
		used += r.count
	}
	copy(b, "RRaA")
	copy(b[484:], "rrAa")
	le.PutUint32(b[488:], uint32(p.clusters-used))
	le.PutUint32(b[492:], uint32(2+used)) // where to look for the next one that is free
	return b
}
