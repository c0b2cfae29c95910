package layout

import (
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"
)

// Constants of FAT (ECMA-107; names as in Microsoft's "FAT: General Overview of On-Disk Format", 1.03).
const (
	reservedSectors   = 4 // so that the first FAT starts at 2 KiB
	fatCount          = 2
	rootEntries       = 512
	sectorsPerCluster = 4
	clusterSize       = sectorsPerCluster * SectorSize
	dirEntrySize      = 32
	mediaFixed        = 0xF8
	minFAT16Clusters  = 4085 // fewer are FAT12
	maxFAT16Clusters  = 65524
	endOfChain        = 0xFFFF

	attrVolume    = 0x08
	attrDirectory = 0x10
	attrArchive   = 0x20
	lowerBase     = 0x08 // in NTRes: the name's base is in lower case
	lowerExt      = 0x10
)

// FAT16 is a FAT16 volume to be made.
type FAT16 struct {
	Label   string // at most 11 characters
	Serial  uint32
	Start   uint32 // sectors before the volume on the disk
	Sectors uint32
	Time    time.Time // of all files
	Files   []File
}

// File is a file in a volume. Its path has at most one folder, and names of 8 and 3 characters, each part in
// one case.
type File struct {
	Path string
	Data []byte
}

// volume is a FAT16 volume being made.
type volume struct {
	FAT16
	fatSectors uint32
	fat        []uint16
	next       uint16 // the first cluster that is free
	w          io.WriterAt
	err        error // the first one
}

// WriteTo makes the volume in w, whose offset 0 is the start of the disk. It writes nothing where the volume
// has only zeros.
func (f FAT16) WriteTo(w io.WriterAt) error {
	if f.Sectors < minFAT16Clusters*sectorsPerCluster {
		return fmt.Errorf("%d sectors are too few for FAT16", f.Sectors)
	}
	v := &volume{FAT16: f, next: 2, w: w}
	clusters := v.measure()
	if clusters < minFAT16Clusters || clusters > maxFAT16Clusters {
		return fmt.Errorf("%d sectors make %d clusters, which is no FAT16", f.Sectors, clusters)
	}
	v.fat = make([]uint16, clusters+2)
	v.fat[0], v.fat[1] = 0xFF00|mediaFixed, endOfChain
	v.write(0, v.bootSector())
	v.writeFiles()
	v.writeFATs()
	return v.err
}

// measure finds the number of sectors that a FAT needs, and the number of clusters that are left.
func (v *volume) measure() uint32 {
	fixed := uint32(reservedSectors + rootEntries*dirEntrySize/SectorSize)
	clusters := uint32(0)
	for v.fatSectors = 1; ; v.fatSectors++ {
		clusters = (v.Sectors - fixed - fatCount*v.fatSectors) / sectorsPerCluster
		if (clusters+2)*2 <= v.fatSectors*SectorSize {
			return clusters
		}
	}
}

// write writes at a sector of the volume.
func (v *volume) write(sector uint32, data []byte) {
	if v.err == nil {
		_, v.err = v.w.WriteAt(data, int64(v.Start+sector)*SectorSize)
	}
}

func (v *volume) bootSector() []byte {
	b := make([]byte, SectorSize)
	le := binary.LittleEndian
	copy(b, []byte{0xEB, 0x3C, 0x90})
	copy(b[3:], "SALTMRSH")
	le.PutUint16(b[11:], SectorSize)
	b[13] = sectorsPerCluster
	le.PutUint16(b[14:], reservedSectors)
	b[16] = fatCount
	le.PutUint16(b[17:], rootEntries)
	if v.Sectors < 1<<16 {
		le.PutUint16(b[19:], uint16(v.Sectors))
	} else {
		le.PutUint32(b[32:], v.Sectors)
	}
	b[21] = mediaFixed
	le.PutUint16(b[22:], uint16(v.fatSectors))
	le.PutUint16(b[24:], 63)  // sectors per track and
	le.PutUint16(b[26:], 255) // heads, as for all disks of today
	le.PutUint32(b[28:], v.Start)
	b[36] = 0x80
	b[38] = 0x29
	le.PutUint32(b[39:], v.Serial)
	copy(b[43:], fmt.Sprintf("%-11.11s", v.Label))
	copy(b[54:], "FAT16   ")
	copy(b[mbrEnd:], bootMark)
	return b
}

// writeFiles writes all files, and the folders that hold them.
func (v *volume) writeFiles() {
	root := v.entry(v.Label, attrVolume, 0, 0)
	folders := map[string][]byte{}
	first := map[string]uint16{}
	for _, f := range v.Files {
		folder, name := path.Split(f.Path)
		folder = strings.Trim(folder, "/")
		if folder != "" && folders[folder] == nil {
			first[folder] = v.allocate(clusterSize)
			folders[folder] = append(v.entry(".", attrDirectory, first[folder], 0),
				v.entry("..", attrDirectory, 0, 0)...)
			root = append(root, v.entry(folder, attrDirectory, first[folder], 0)...)
		}
		cluster := uint16(0)
		if len(f.Data) > 0 {
			cluster = v.allocate(len(f.Data))
			v.write(v.sectorOf(cluster), f.Data)
		}
		e := v.entry(name, attrArchive, cluster, uint32(len(f.Data)))
		if folder == "" {
			root = append(root, e...)
		} else {
			folders[folder] = append(folders[folder], e...)
		}
	}
	for name, entries := range folders {
		if len(entries) > clusterSize {
			v.fail("folder %s has too many files", name)
		}
		v.write(v.sectorOf(first[name]), entries)
	}
	if len(root) > rootEntries*dirEntrySize {
		v.fail("the root has too many files")
	}
	v.write(reservedSectors+fatCount*v.fatSectors, root)
}

func (v *volume) fail(format string, args ...any) {
	if v.err == nil {
		v.err = fmt.Errorf(format, args...)
	}
}

func (v *volume) sectorOf(cluster uint16) uint32 {
	data := reservedSectors + fatCount*v.fatSectors + rootEntries*dirEntrySize/SectorSize
	return data + uint32(cluster-2)*sectorsPerCluster
}

// allocate chains the clusters for n bytes, and returns the first.
func (v *volume) allocate(n int) uint16 {
	count := (n + clusterSize - 1) / clusterSize
	if int(v.next)+count > len(v.fat) {
		v.fail("the volume is full")
		return 2
	}
	start := v.next
	for range count {
		v.fat[v.next] = v.next + 1
		v.next++
	}
	v.fat[v.next-1] = endOfChain
	return start
}

// entry is a directory entry (section 6).
func (v *volume) entry(name string, attr byte, cluster uint16, size uint32) []byte {
	e := make([]byte, dirEntrySize)
	short, lower, err := shortName(name, attr)
	if err != nil {
		v.fail("%v", err)
	}
	copy(e, short)
	e[11], e[12] = attr, lower
	t := v.Time.UTC()
	clock := uint16(t.Hour()<<11 | t.Minute()<<5 | t.Second()/2)
	date := uint16((t.Year()-1980)<<9 | int(t.Month())<<5 | t.Day())
	le := binary.LittleEndian
	le.PutUint16(e[14:], clock)
	le.PutUint16(e[16:], date)
	le.PutUint16(e[18:], date)
	le.PutUint16(e[22:], clock)
	le.PutUint16(e[24:], date)
	le.PutUint16(e[26:], cluster)
	le.PutUint32(e[28:], size)
	return e
}

// shortName is the name as an entry has it: 8 and 3 characters, padded, in upper case, with the case apart.
func shortName(name string, attr byte) (short string, lower byte, err error) {
	if attr == attrVolume || name == "." || name == ".." {
		return fmt.Sprintf("%-11.11s", name), 0, nil
	}
	stem, ext, _ := strings.Cut(name, ".")
	if stem == "" || len(stem) > 8 || len(ext) > 3 || strings.ContainsFunc(name, notShort) {
		return "", 0, fmt.Errorf("%q is not a name of 8 and 3 characters", name)
	}
	for part, flag := range map[string]byte{stem: lowerBase, ext: lowerExt} {
		switch {
		case part == strings.ToUpper(part):
		case part == strings.ToLower(part):
			lower |= flag
		default:
			return "", 0, fmt.Errorf("%q mixes upper and lower case", name)
		}
	}
	return strings.ToUpper(fmt.Sprintf("%-8s%-3s", stem, ext)), lower, nil
}

func notShort(r rune) bool {
	return r != '.' && r != '-' && r != '_' && (r < '0' || r > '9') && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z')
}

func (v *volume) writeFATs() {
	table := make([]byte, v.fatSectors*SectorSize)
	for i, c := range v.fat {
		binary.LittleEndian.PutUint16(table[2*i:], c)
	}
	for i := range uint32(fatCount) {
		v.write(reservedSectors+i*v.fatSectors, slices.Clone(table))
	}
}
