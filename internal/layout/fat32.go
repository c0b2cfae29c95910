package layout

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// TypeFAT32LBA is the partition type of FAT32, addressed by sector number.
const TypeFAT32LBA = 0x0C

// Constants of FAT32 (Microsoft's "FAT: General Overview of On-Disk Format", 1.03, sections 3.1 to 5).
const (
	fat32Reserved    = 32 // at least
	fat32Backup      = 6  // where the copies of the first sectors start
	minFAT32Clusters = 65525
	maxFAT32Clusters = 0x0FFFFFF5
	endOfChain32     = 0x0FFFFFFF
	cleanShut        = 0x0FFFFFFF // of entry 1: in order, without errors
)

// AlignTo is to what partitions and the data areas of file systems are aligned on cards, bytes: the largest unit that
// flash of today is erased by, and that the SD Association's own layouts use for cards of more than 32 GB.
const AlignTo = 4 << 20

// FAT32 is an empty FAT32 volume to be made.
type FAT32 struct {
	Label  string // as Label gives it; may be empty
	Serial uint32
	Sector int   // logical sector of the card, bytes
	Start  int64 // of the volume on the card, bytes; a multiple of AlignTo
	Size   int64 // of the volume, bytes
	Time   time.Time
}

// ErrTooSmall says that a card is too small for FAT32.
var ErrTooSmall = errors.New("too small for FAT32")

// Label makes a FAT label of a text: in upper case, as these are. The error says what it can't be.
func Label(text string) (string, error) {
	label := strings.ToUpper(strings.TrimSpace(text))
	if len(label) > 11 {
		return "", fmt.Errorf("the label %q has more than 11 characters", text)
	}
	if at := strings.IndexFunc(label, func(r rune) bool {
		return r < ' ' || r > '~' || strings.ContainsRune(`"*+,./:;<=>?[\]|`, r)
	}); at >= 0 {
		return "", fmt.Errorf("the label %q has a character that FAT labels can't have", text)
	}
	return label, nil
}

// fat32Plan is where the parts of a volume are, in sectors.
type fat32Plan struct {
	total, reserved, fat, cluster, clusters int64
}

// clusterSectors is how many sectors a cluster has: 32 KiB on cards of today; on small ones so few that it is a FAT32
// at all (section 3.5).
func clusterSectors(size int64, sector int) int64 {
	bytes := int64(32 << 10)
	switch {
	case size < 260<<20:
		bytes = 512
	case size < 4<<30:
		bytes = 4 << 10
	}
	return max(bytes/int64(sector), 1)
}

// plan finds the places. The data area is aligned to AlignTo, by making the reserved area so long.
func (f FAT32) plan() (p fat32Plan, err error) {
	sector := int64(f.Sector)
	p.total = min(f.Size/sector, 1<<32-1)
	p.cluster = clusterSectors(f.Size, f.Sector)
	entries := p.total/p.cluster + 2
	p.fat = (entries*4 + sector - 1) / sector
	align := AlignTo / sector
	data := (fat32Reserved + fatCount*p.fat + align - 1) / align * align
	p.reserved = data - fatCount*p.fat
	p.clusters = (p.total - data) / p.cluster
	if p.clusters < minFAT32Clusters {
		return p, ErrTooSmall
	}
	if p.clusters > maxFAT32Clusters {
		return p, fmt.Errorf("%d clusters are too many for FAT32", p.clusters)
	}
	return p, nil
}

// Check tells whether the volume can be made.
func (f FAT32) Check() error {
	_, err := f.plan()
	return err
}

// MetadataSize is how many bytes WriteTo writes.
func (f FAT32) MetadataSize() int64 {
	p, err := f.plan()
	if err != nil {
		return 0
	}
	return (p.reserved + fatCount*p.fat + p.cluster) * int64(f.Sector)
}

// fatPiece is how much of a FAT is written at once, bytes.
const fatPiece = 1 << 20

// WriteTo makes the volume in w, whose offset 0 is the start of the card: all of the reserved area, both FATs, and the
// root. It writes whole sectors.
func (f FAT32) WriteTo(w io.WriterAt) error {
	p, err := f.plan()
	if err != nil {
		return err
	}
	sector := int64(f.Sector)
	write := func(at int64, b []byte) {
		if err == nil {
			_, err = w.WriteAt(b, f.Start+at*sector)
		}
	}
	reserved := make([]byte, p.reserved*sector)
	for _, at := range []int64{0, fat32Backup} {
		copy(reserved[at*sector:], f.bootSector(p))
		copy(reserved[(at+1)*sector:], f.infoSector(p))
		copy(reserved[(at+2)*sector:], f.signed()) // the third sector has nothing but the signature
	}
	write(0, reserved)
	for i := range int64(fatCount) {
		length := p.fat * sector
		for at := int64(0); at < length; at += fatPiece {
			piece := make([]byte, min(fatPiece, length-at))
			if at == 0 {
				// the root has one cluster
				for j, v := range []uint32{0x0FFFFF00 | mediaFixed, cleanShut, endOfChain32} {
					binary.LittleEndian.PutUint32(piece[4*j:], v)
				}
			}
			write(p.reserved+i*p.fat+at/sector, piece)
		}
	}
	root := make([]byte, p.cluster*sector)
	if f.Label != "" {
		copy(root, f.labelEntry())
	}
	write(p.reserved+fatCount*p.fat, root)
	return err
}

// signed is a sector with nothing but the signature of boot sectors.
func (f FAT32) signed() []byte {
	b := make([]byte, f.Sector)
	copy(b[mbrEnd:], bootMark)
	return b
}

func (f FAT32) label() string {
	if f.Label == "" {
		return "NO NAME    "
	}
	return fmt.Sprintf("%-11s", f.Label)
}

func (f FAT32) bootSector(p fat32Plan) []byte {
	b := f.signed()
	le := binary.LittleEndian
	copy(b, []byte{0xEB, 0x58, 0x90})
	copy(b[3:], "ZIPSTAMP")
	le.PutUint16(b[11:], uint16(f.Sector))
	b[13] = byte(p.cluster)
	le.PutUint16(b[14:], uint16(p.reserved))
	b[16] = fatCount
	b[21] = mediaFixed
	le.PutUint16(b[24:], 63)
	le.PutUint16(b[26:], 255)
	le.PutUint32(b[28:], uint32(f.Start/int64(f.Sector)))
	le.PutUint32(b[32:], uint32(p.total))
	le.PutUint32(b[36:], uint32(p.fat))
	le.PutUint32(b[44:], 2) // the root's first cluster
	le.PutUint16(b[48:], 1) // where the information sector is
	le.PutUint16(b[50:], fat32Backup)
	b[64] = 0x80
	b[66] = 0x29
	le.PutUint32(b[67:], f.Serial)
	copy(b[71:], f.label())
	copy(b[82:], "FAT32   ")
	return b
}

// infoSector tells how many clusters are free (section 5).
func (f FAT32) infoSector(p fat32Plan) []byte {
	b := f.signed()
	le := binary.LittleEndian
	le.PutUint32(b, 0x41615252)
	le.PutUint32(b[484:], 0x61417272)
	le.PutUint32(b[488:], uint32(p.clusters-1)) // all but the root's
	le.PutUint32(b[492:], 3)                    // the next one that is free
	return b
}

func (f FAT32) labelEntry() []byte {
	v := volume{FAT16: FAT16{Time: f.Time}}
	return v.entry(f.Label, attrVolume, 0, 0)
}
