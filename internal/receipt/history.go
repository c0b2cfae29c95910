package receipt

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zipstamp/internal/card"
)

// maxHistory is how many receipts are looked through, the latest first.
const maxHistory = 2000

// History reads the receipts in a folder, the latest first. What is no receipt is left out, and so is a folder that isn't there.
func History(folder string) []Document {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil
	}
	slices.Reverse(entries) // names begin with the time
	var all []Document
	for _, e := range entries {
		if len(all) == maxHistory {
			break
		}
		if strings.HasPrefix(e.Name(), ".") || filepath.Ext(e.Name()) != ".json" || !e.Type().IsRegular() {
			continue
		}
		if doc, err := Load(filepath.Join(folder, e.Name())); err == nil {
			doc.File = e.Name()
			all = append(all, doc)
		}
	}
	slices.SortStableFunc(all, func(a, b Document) int { return b.Ended.Compare(a.Ended) }) // of those of one second
	return all
}

// Load reads a receipt.
func Load(path string) (doc Document, err error) {
	f, err := os.Open(path)
	if err != nil {
		return doc, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, reserve+1)) // it may be an image, or a disk
	switch {
	case err != nil:
		return doc, err
	case len(text) > reserve || json.Unmarshal(text, &doc) != nil || doc.Receipt <= 0 || doc.Job == "":
		return doc, fmt.Errorf("%s is no receipt", path)
	}
	sum := sha256.Sum256(text)
	doc.Digest = hex.EncodeToString(sum[:])
	return doc, nil
}

// Stamped tells whether the receipt is of a stamp that left an image on a card: on the one with this CID, or, where the card's CID isn't known, on one
// of this size whose partition table has this ID. The latter may be another card with the same image.
func (d Document) Stamped(cid, diskID string, size int64) bool {
	if d.Job != JobStamp || d.Verdict != Good && d.Verdict != NotReadBack || d.Card.Size != size {
		return false
	}
	if cid != "" && d.Card.CID != "" {
		return cid == d.Card.CID
	}
	return diskID != "" && strings.EqualFold(diskID, d.Card.DiskID)
}

// Of tells whether the receipt is of a card that says this of itself: its CID, or its serial number, or, of a file, its path. A card in a reader that tells neither is
// never known again.
func (d Document) Of(c Card) bool {
	switch {
	case d.Card.Size != c.Size || d.Card.Kind != c.Kind:
		return false
	case c.CID != "" && d.Card.CID != "":
		return c.CID == d.Card.CID
	case c.Bus == "" || c.Bus == "loop device":
		return c.Path == d.Card.Path
	}
	return c.Serial != "" && c.Serial == d.Card.Serial
}

// CardNow is what a card that is here says of itself, to find receipts of it.
func CardNow(c *card.Card) Card { return cardOf(c, c.Size, c.SectorSize, "") }
