package layout

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"
	"unicode/utf16"
)

// FAT is a FAT file system that is read. It reads a directory at a time, and of the table the entries that it needs, so
// that a volume within a packed image isn't unpacked to its end.
//
// Its numbers are those of Microsoft's "FAT: General Overview of On-Disk Format", 1.03.
type FAT struct {
	r                 io.ReaderAt
	kind              FSKind
	sector, sectors   int64 // bytes; count
	cluster           int64 // bytes
	clusters          uint32
	table, root, data int64 // offsets, bytes
	rootLength        int64 // bytes; 0 on FAT32
	rootCluster       uint32
	labelInBPB        string
	tableLength       int64  // bytes
	reservedEnd       int64  // where the first table is, bytes
	copy              int64  // offset of the table's other copy, bytes; 0: there is none that counts
	page              []byte // of the table, as it was read last
	pageAt            int64
	endOfChain        uint32
	entryBits         int64
}

// Bounds are how much is followed in a volume that may be damaged, or made to mislead.
type Bounds struct{ Folders, Files, Depth int }

// usual are the bounds for a boot partition.
var usual = Bounds{Folders: 2000, Files: 20_000, Depth: 16}

const (
	folderMax    = 2 << 20 // bytes, the format's own limit: section "FAT Directory Structure"
	fat12Max     = 4085    // clusters: "FAT Type Determination"
	fat16Max     = 65525
	attrLongName = 0x0F

	// of BPB_ExtFlags (section "Extended BPB structure for FAT32 volumes"): only one table is kept, and which
	extFlagsOne, extFlagsActive = 0x80, 0x0F
)

// ErrNotFAT says that there is no FAT file system.
var ErrNotFAT = errors.New("no FAT file system starts here")

// OpenFAT opens the volume that starts at r's offset 0.
func OpenFAT(r io.ReaderAt) (*FAT, error) {
	head := make([]byte, SectorSize)
	if _, err := r.ReadAt(head, 0); err != nil {
		return nil, err
	}
	return openFAT(head, r)
}

func openFAT(boot []byte, r io.ReaderAt) (*FAT, error) {
	v := &FAT{r: r, sector: int64(le.Uint16(boot[11:])), pageAt: -1}
	perCluster, reserved, fats := int64(boot[13]), int64(le.Uint16(boot[14:])), int64(boot[16])
	entries := int64(le.Uint16(boot[17:]))
	v.sectors = int64(le.Uint16(boot[19:]))
	if v.sectors == 0 {
		v.sectors = int64(le.Uint32(boot[32:]))
	}
	tableSectors := int64(le.Uint16(boot[22:]))
	wide := tableSectors == 0
	if wide {
		tableSectors = int64(le.Uint32(boot[36:]))
	}
	powerOfTwo := func(n, least, most int64) bool { return n >= least && n <= most && n&(n-1) == 0 }
	if boot[510] != 0x55 || boot[511] != 0xAA || !powerOfTwo(v.sector, 512, 4096) || !powerOfTwo(perCluster, 1, 128) ||
		reserved == 0 ||
		fats == 0 || fats > 2 || boot[21] < 0xF0 || tableSectors == 0 {
		return nil, ErrNotFAT
	}
	v.cluster = perCluster * v.sector
	v.table, v.tableLength = reserved*v.sector, tableSectors*v.sector
	v.reservedEnd = v.table
	v.root = v.table + fats*tableSectors*v.sector
	if fats == 2 {
		v.copy = v.table + tableSectors*v.sector
	}
	v.rootLength = (entries*dirEntrySize + v.sector - 1) / v.sector * v.sector
	v.data = v.root + v.rootLength
	count := (v.sectors*v.sector - v.data) / v.cluster
	if count < 1 || count > 1<<28 {
		return nil, ErrNotFAT
	}
	v.clusters = uint32(count)
	label := boot[43:54]
	switch {
	case count < fat12Max:
		v.kind, v.entryBits, v.endOfChain = FAT12Kind, 12, 0xFF8
	case count < fat16Max:
		v.kind, v.entryBits, v.endOfChain = FAT16Kind, 16, 0xFFF8
	default:
		v.kind, v.entryBits, v.endOfChain = FAT32Kind, 32, 0xFFFFFF8
	}
	if wide != (v.kind == FAT32Kind) {
		return nil, ErrNotFAT
	}
	if wide {
		v.rootCluster = le.Uint32(boot[44:]) & 0xFFFFFFF
		if flags := le.Uint16(boot[40:]); flags&extFlagsOne != 0 {
			active := int64(flags & extFlagsActive)
			if active >= fats {
				return nil, ErrNotFAT
			}
			v.table, v.copy = v.table+active*tableSectors*v.sector, 0
		}
		label = boot[71:82]
	}
	if v.labelInBPB = text(label); v.labelInBPB == "NO NAME" {
		v.labelInBPB = ""
	}
	return v, nil
}

// label is the volume's entry in the root directory, or that in the boot sector.
func (v *FAT) label() string {
	label := v.labelInBPB
	_ = v.readFolder(v.rootFolder(), func(e []byte) bool {
		if e[11]&attrLongName != attrLongName && e[11]&attrVolume != 0 && e[0] != 0xE5 {
			label = text(e[:11])
			return false
		}
		return true
	})
	return label
}

// FATFile is a file in a volume.
type FATFile struct {
	Path string // with slashes
	Size int64
	// Modified is when it was last written, by the clock of whoever wrote it, in no time zone; zero where the entry
	// doesn't say.
	Modified time.Time
	first    uint32 // its first cluster
}

// Extents are where a file is in the volume, in whole clusters, those that follow each other joined. What was found
// before an error is returned with it.
func (v *FAT) Extents(f FATFile) (all []Extent, err error) {
	if f.Size == 0 || f.first < 2 {
		return nil, nil
	}
	left := f.Size
	err = v.follow(f.first, func(at int64) (bool, error) {
		n := v.cluster
		if last := len(all) - 1; last >= 0 && all[last].Offset+all[last].Length == at {
			all[last].Length += n
		} else {
			all = append(all, Extent{at, n})
		}
		left -= n
		return left > 0, nil
	})
	return all, err
}

// Data is where the area of files and folders starts; before it are the boot sectors and the tables.
func (v *FAT) Data() int64 { return v.data }

// entryTime is the time at which an entry was last written (section "Date and Time Formats").
func entryTime(e []byte) time.Time {
	date, clock := int(le.Uint16(e[24:])), int(le.Uint16(e[22:]))
	if date == 0 {
		return time.Time{}
	}
	return time.Date(1980+date>>9, time.Month(date>>5&15), date&31, clock>>11, clock>>5&63, clock&31*2, 0, time.UTC)
}

// Files lists all files, a folder before those within it. An error is one of reading, or says that the volume is
// damaged; what was found before is returned with it.
func (v *FAT) Files() ([]FATFile, error) { return v.FilesWithin(usual) }

// FilesWithin lists them, as long as there are no more than so many.
func (v *FAT) FilesWithin(most Bounds) ([]FATFile, error) {
	var files []FATFile
	type folder struct {
		path  string
		first uint32
		depth int
	}
	todo := []folder{{"", v.rootFolder(), 0}}
	for n := 0; n < len(todo); n++ {
		if n >= most.Folders || len(files) >= most.Files {
			return files, errors.New("the volume has more folders or files than a card's boot partition would")
		}
		f := todo[n]
		var long longName
		err := v.readFolder(f.first, func(e []byte) bool {
			attributes := e[11]
			switch {
			case e[0] == 0xE5:
				long = nil
				return true
			case attributes&0x3F == attrLongName:
				long.add(e)
				return true
			}
			name := long.text(e)
			long = nil
			first := uint32(le.Uint16(e[26:]))
			if v.entryBits == 32 {
				first |= uint32(le.Uint16(e[20:])) << 16
			}
			switch {
			case attributes&attrVolume != 0 || name == "." || name == "..":
			case attributes&attrDirectory != 0:
				if f.depth < most.Depth && first >= 2 {
					todo = append(todo, folder{path.Join(f.path, name), first, f.depth + 1})
				}
			default:
				files = append(files, FATFile{path.Join(f.path, name), int64(le.Uint32(e[28:])), entryTime(e), first})
			}
			return len(files) < most.Files
		})
		if err != nil {
			return files, fmt.Errorf("read folder /%s: %w", f.path, err)
		}
	}
	return files, nil
}

// Open reads a file. What it returns may be used once.
func (v *FAT) Open(f FATFile) (io.Reader, error) {
	at, err := v.Extents(f)
	if err != nil {
		return nil, err
	}
	var parts []io.Reader
	for _, e := range at {
		parts = append(parts, io.NewSectionReader(v.r, e.Offset, e.Length))
	}
	return io.LimitReader(io.MultiReader(parts...), f.Size), nil
}

// Head reads the start of a file, n bytes at most.
func (v *FAT) Head(f FATFile, n int64) ([]byte, error) {
	head := make([]byte, 0, min(n, f.Size))
	err := v.follow(f.first, func(at int64) (bool, error) {
		piece := make([]byte, min(v.cluster, int64(cap(head)-len(head))))
		if _, err := v.r.ReadAt(piece, at); err != nil {
			return false, err
		}
		head = append(head, piece...)
		return len(head) < cap(head), nil
	})
	return head, err
}

// rootFolder is the first cluster of the root directory; 0 stands for the place of its own that it has on FAT12 and
// FAT16.
func (v *FAT) rootFolder() uint32 { return v.rootCluster }

// readFolder shows the entries of a folder until see returns false or the folder ends.
func (v *FAT) readFolder(first uint32, see func(entry []byte) bool) error {
	read := func(at, length int64) (bool, error) {
		piece := make([]byte, length)
		if _, err := v.r.ReadAt(piece, at); err != nil {
			return false, err
		}
		for ; len(piece) >= dirEntrySize; piece = piece[dirEntrySize:] {
			if piece[0] == 0 || !see(piece[:dirEntrySize]) {
				return false, nil
			}
		}
		return true, nil
	}
	if first == 0 && v.rootLength > 0 {
		_, err := read(v.root, v.rootLength)
		return err
	}
	total := int64(0)
	return v.follow(first, func(at int64) (bool, error) {
		if total += v.cluster; total > folderMax+v.cluster {
			return false, errors.New("the folder has no end")
		}
		return read(at, v.cluster)
	})
}

// follow goes from cluster to cluster of a chain while see wants more; at is a cluster's offset.
func (v *FAT) follow(cluster uint32, see func(at int64) (more bool, err error)) error {
	for n := uint32(0); n <= v.clusters; n++ {
		if cluster < 2 || cluster-2 >= v.clusters {
			return fmt.Errorf("cluster %d is not one of the volume's", cluster)
		}
		more, err := see(v.data + int64(cluster-2)*v.cluster)
		if err != nil || !more {
			return err
		}
		if cluster, err = v.next(cluster); err != nil {
			return err
		}
		if cluster >= v.endOfChain {
			return nil
		}
	}
	return errors.New("a chain of clusters has no end")
}

// next reads the entry of a cluster in the table.
func (v *FAT) next(cluster uint32) (uint32, error) {
	const pageSize = 4096 + 4 // an entry of 12 bits may lie across
	bit := int64(cluster) * v.entryBits
	at := v.table + bit/8
	if v.pageAt < 0 || at < v.pageAt || at+4 > v.pageAt+int64(len(v.page)) {
		v.page = make([]byte, pageSize)
		n, err := v.r.ReadAt(v.page, at)
		if n < 4 {
			return 0, err
		}
		v.page, v.pageAt = v.page[:n], at
	}
	e := binary.LittleEndian.Uint32(v.page[at-v.pageAt:])
	switch v.entryBits {
	case 12:
		return e >> (bit % 8) & 0xFFF, nil
	case 16:
		return e & 0xFFFF, nil
	}
	return e & 0xFFFFFFF, nil
}

// longName collects the entries of a long name, which stand before the file's own, the last part first.
type longName [][]byte

func (l *longName) add(e []byte) {
	if e[0]&0x40 != 0 {
		*l = nil
	}
	if len(*l) < 20 { // 255 characters, section "Long Directory Entries"
		*l = append(*l, append([]byte(nil), e...))
	}
}

// text is the long name if there is one for the entry e, and its short name otherwise.
func (l longName) text(e []byte) string {
	var units []uint16
	sum := shortSum(e[:11])
	for i := len(l) - 1; i >= 0; i-- {
		if l[i][13] != sum {
			return shortNameOf(e)
		}
		for _, part := range [][]byte{l[i][1:11], l[i][14:26], l[i][28:32]} {
			for ; len(part) > 0; part = part[2:] {
				if u := le.Uint16(part); u != 0 && u != 0xFFFF {
					units = append(units, u)
				}
			}
		}
	}
	if len(units) == 0 {
		return shortNameOf(e)
	}
	return string(utf16.Decode(units))
}

func shortNameOf(e []byte) string {
	base, ext := text(e[:8]), text(e[8:11])
	if e[12]&lowerBase != 0 {
		base = strings.ToLower(base)
	}
	if e[12]&lowerExt != 0 {
		ext = strings.ToLower(ext)
	}
	if ext == "" {
		return base
	}
	return base + "." + ext
}
