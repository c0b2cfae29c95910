// Package layout reads and makes partition tables and file systems, and tells what a disk, or an image of one, has on
// it.
//
// It owns their magic numbers and their names: other packages ask it. It reads MBR and GPT tables (UEFI 2.10, section
// 5), FAT (Microsoft's FAT32 File System Specification 1.03) and ext2, 3, 4; of other file systems it knows the
// superblock. It makes an MBR, FAT16 and FAT32 with files, and an empty exFAT. Whatever is read may be damaged or made
// to do harm, so all of it is bounded.
package layout

import "encoding/binary"

// SectorSize is the sector that these tables count in, bytes.
const SectorSize = 512

// Partition is an entry of the classic partition table. Start and Sectors count sectors of 512 bytes.
type Partition struct {
	Type           byte
	Active         bool
	Start, Sectors uint32
}

// MBR is the first sector of a disk with a classic partition table of up to four partitions (UEFI 2.10
// section 5.2.1). signature tells disks apart.
func MBR(signature uint32, parts ...Partition) [SectorSize]byte {
	var mbr [SectorSize]byte
	binary.LittleEndian.PutUint32(mbr[mbrID:], signature)
	for i, p := range parts {
		e := mbr[mbrEntries+mbrEntrySize*i:][:mbrEntrySize]
		if p.Active {
			e[0] = 0x80
		}
		e[4] = p.Type
		copy(e[1:4], []byte{0xFE, 0xFF, 0xFF}) // cylinder, head and sector say nothing today: the largest ones
		copy(e[5:8], []byte{0xFE, 0xFF, 0xFF})
		binary.LittleEndian.PutUint32(e[8:], p.Start)
		binary.LittleEndian.PutUint32(e[12:], p.Sectors)
	}
	copy(mbr[mbrEnd:], bootMark)
	return mbr
}
