package card_test

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"

	"zipstamp/internal/card"
	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
)

// A card is found by its name, claimed, written, and let go. A practice card is a card like any other.
func Example() {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "tides.card")
	spec := practice.Spec{Version: practice.Version, Backing: "tides.card.data", Claimed: 64e6, Serial: "SW-0001"}
	if err := practice.Create(path, spec); err != nil {
		log.Fatal(err)
	}

	c, err := here.Cards().Find(path)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(c.Name, c.Kind, c.Size)
	ctx := context.Background()
	hold, err := c.Claim(ctx, card.Freeing{})
	if err != nil {
		log.Fatal(err)
	}
	defer hold.LetGo(ctx, card.Leaving{})
	pool, err := card.NewPool(1, hold.SectorSize()) // of memory that any device takes
	if err != nil {
		log.Fatal(err)
	}
	defer pool.Close()
	sector, err := pool.Get(ctx)
	if err != nil {
		log.Fatal(err)
	}
	copy(sector, "high water")
	if _, err := hold.WriteAt(sector, 0); err != nil {
		log.Fatal(err)
	}
	clear(sector)
	if err := hold.Forget(); err != nil { // so that the card itself answers
		log.Fatal(err)
	}
	if _, err := hold.ReadAt(sector, 0); err != nil {
		log.Fatal(err)
	}
	fmt.Printf("%s\n", sector[:10])
	// Output:
	// tides.card practice card 64000000
	// high water
}

// A reader's serial number says nothing of the card in it; a card's own number decides.
func ExampleIdentity_Like() {
	first := card.Identity{Kind: card.Block, Size: 32e9, Serial: "SW-R1", Reader: true}
	second := card.Identity{Kind: card.Block, Size: 32e9, CID: "27-SM-BRNDL-10a1b2c3"}
	larger := card.Identity{Kind: card.Block, Size: 64e9, CID: "27-SM-BRNDL-10a1b2c3"}
	fmt.Println(second.Like(second) == card.Same)
	fmt.Println(first.Like(first) == card.MayBe)
	fmt.Println(second.Like(larger) == card.Different)
	// Output:
	// true
	// true
	// true
}
