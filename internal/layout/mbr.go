// Package layout makes partition tables and file systems.
package layout

import "encoding/binary"

// SectorSize is the sector that these tables count in, bytes.
const SectorSize = 512

// Partition types of the classic table.
const (
	TypeFAT16LBA = 0x0E // FAT16, addressed by sector number
)

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
	binary.LittleEndian.PutUint32(mbr[440:], signature)
	for i, p := range parts {
		e := mbr[446+16*i:][:16]
		if p.Active {
			e[0] = 0x80
		}
		e[4] = p.Type
		copy(e[1:4], []byte{0xFE, 0xFF, 0xFF}) // cylinder, head and sector say nothing today: the largest ones
		copy(e[5:8], []byte{0xFE, 0xFF, 0xFF})
		binary.LittleEndian.PutUint32(e[8:], p.Start)
		binary.LittleEndian.PutUint32(e[12:], p.Sectors)
	}
	mbr[510], mbr[511] = 0x55, 0xAA
	return mbr
}
