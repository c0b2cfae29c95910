package stamp_test

import (
	"bytes"
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"

	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/stamp"
)

// An image is stamped onto a card that stores a bit wrong once: reading back finds it, and the block is written again.
func Example() {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	img, path := filepath.Join(dir, "tides.img"), filepath.Join(dir, "tired.card")
	data := bytes.Repeat([]byte("tide"), 3<<20)
	mbr := layout.MBR(0x5A17A1B5, layout.Partition{Type: layout.TypeFAT16LBA, Start: 2048, Sectors: 20480})
	copy(data, mbr[:])
	if err := os.WriteFile(img, data, 0o600); err != nil {
		log.Fatal(err)
	}
	if err := practice.Create(path, practice.Spec{
		Version: practice.Version, Backing: "tired.card.data", Claimed: 64e6,
		Faults: []practice.Fault{{Kind: practice.Flip, Sector: 20000, Times: 1}},
	}); err != nil {
		log.Fatal(err)
	}

	f, err := image.Open(img)
	if err != nil {
		log.Fatal(err)
	}
	defer f.Close()
	contents, err := f.Look("")
	if err != nil {
		log.Fatal(err)
	}
	c, err := here.Cards().Find(path)
	if err != nil {
		log.Fatal(err)
	}
	device, err := c.Open()
	if err != nil {
		log.Fatal(err)
	}
	defer device.Close()
	job := stamp.Job{
		Source: stamp.OfImage(f, contents), ReadBack: true, Repairs: stamp.DefaultRepairs,
		Cards: []stamp.Target{{Device: device, Meter: new(meter.Meter)}},
	}
	for _, o := range job.Run(context.Background()) {
		fmt.Println(o.State, o.Err, o.Verified, len(o.Repaired))
	}
	// Output:
	// read back right <nil> 12582912 1
}
