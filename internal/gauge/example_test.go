package gauge_test

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"time"

	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/meter"
	"zipstamp/internal/state"
)

// Places all over a card are tried, and what was there is put back. This card claims 64 MB, and what is written beyond
// 32 MB overwrites what is there.
func Example() {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "liar.card")
	if err := practice.Create(path, practice.Spec{
		Version: practice.Version, Backing: "liar.card.data", Claimed: 64e6, Real: 32e6, Beyond: practice.Wrap,
	}); err != nil {
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

	nonce := mark.Nonce{1, 2, 3} // a new one for each test
	saved, err := journal.Create(state.Place{Home: dir, Folder: "journals"}, journal.Head{
		Job: "gauge spots", Card: c.Record(), Nonce: nonce, Started: time.Now(),
	})
	if err != nil {
		log.Fatal(err)
	}
	report, restored, err := spots.Test{
		Device: device, Meter: new(meter.Meter), Nonce: nonce, Seed: 7, Places: spots.DefaultPlaces, Journal: saved,
	}.Run(context.Background())
	fmt.Println(report.Verdict, err)
	fmt.Printf("real: %d bytes, repeats: %t, put back: %t\n", report.Loss.Real, report.Loss.Repeats, restored)
	if err := saved.Remove(); err != nil {
		log.Fatal(err)
	}
	// Output:
	// counterfeit <nil>
	// real: 32000000 bytes, repeats: true, put back: true
}
