package layout_test

import (
	"bytes"
	"fmt"

	"zipstamp/internal/layout"
)

// What is on a disk is told from its partition table and the starts of its partitions.
func ExampleDescribe() {
	const mib = 1 << 20
	disk := make([]byte, 40*mib)
	mbr := layout.MBR(0x5A17A1B5, layout.Partition{Type: 0x0C, Start: mib / 512, Sectors: 34 * mib / 512})
	copy(disk, mbr[:])

	d, err := layout.Describe(bytes.NewReader(disk), int64(len(disk)), layout.SectorSize)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(d.Kind, d.Table.Scheme, d.Table.ID)
	for _, p := range d.Parts {
		fmt.Printf("%d: %s, %d bytes from %d\n", p.Number, p.Type, p.Length, p.Start)
	}
	// Output:
	// disk MBR 5a17a1b5
	// 1: FAT32, 35651584 bytes from 1048576
}
