package stamp

import (
	"bytes"

	"zipstamp/internal/card"
)

// A GUID partition table has a copy at the disk's end: the header in the last sector, and before it
// the entries, at least 16,384 bytes (UEFI 2.10 sections 5.3.1 and 5.3.2).
const backupEntries = 16384

var gptSignature = []byte("EFI PART")

// backupTable finds such a copy; length is 0 if there is none. buf has room for a sector.
func backupTable(d card.Device, buf []byte) (offset, length int64, err error) {
	sector := int64(d.SectorSize())
	last := buf[:sector]
	if _, err := d.ReadAt(last, d.Size()-sector); err != nil {
		return 0, 0, err
	}
	if !bytes.HasPrefix(last, gptSignature) {
		return 0, 0, nil
	}
	length = min(padded(backupEntries, d.SectorSize())+sector, d.Size())
	return d.Size() - length, length, nil
}
