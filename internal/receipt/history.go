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
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/document"
	"zipstamp/internal/gauge"
)

// maxHistory is how many receipts are looked through, the latest first.
const maxHistory = 2000

// History reads the receipts in a folder, the latest first. What is no receipt is left out, and so is a folder that
// isn't there.
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
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		return doc, fmt.Errorf("%s is not a plain file", path)
	}
	return read(f, path)
}

// read reads a receipt; name is for messages.
func read(f io.Reader, name string) (doc Document, err error) {
	text, err := io.ReadAll(io.LimitReader(f, reserve+1)) // it may be an image, or a disk
	switch {
	case err != nil:
		return doc, err
	case len(text) > reserve || json.Unmarshal(text, &doc) != nil || doc.Job == "" || doc.First != 1 &&
		(doc.Schema != document.Receipt || doc.Version < document.Version):
		return Document{}, fmt.Errorf("%s is no receipt", name)
	}
	if err := doc.valid(); err != nil {
		return Document{}, fmt.Errorf("%s is no receipt that can be right: %w", name, err)
	}
	sum := sha256.Sum256(text)
	doc.Digest = hex.EncodeToString(sum[:])
	return doc, nil
}

// Left tells whether the receipt is of a job that left on a card what can be compared with it later: an image, or a
// file system with files.
func (d Document) Left() bool {
	return (d.Job == JobStamp || d.HasFiles()) && slices.Contains([]Verdict{Good, NotReadBack, Counterfeit}, d.Verdict)
}

// Proves tells whether the receipts show that a card holds what it claims: the latest one that says anything about
// that, of this very card. Marks and samples count where they were read past a cache of gauge.Displaced bytes.
func Proves(all []Document, c card.Record) bool {
	last, like := Latest(all, c, func(d Document) bool {
		return d.Gauge != nil || d.Capacity != nil && !d.Capacity.Earlier
	})
	switch {
	case last == nil || like != card.Same:
		return false
	case last.Gauge != nil:
		g := last.Gauge
		return last.Verdict == Verdict(gauge.Holds) && g.Tested == g.Claimed && g.Unkept == 0 &&
			(g.Method == string(gauge.ByWhole) || g.Method == string(gauge.BySpots) && g.Displaced >= gauge.Displaced)
	}
	return last.Capacity.Proven && last.Bytes.Displaced != nil && *last.Bytes.Displaced >= gauge.Displaced
}

// Local is when the job ended, as this computer's clock showed it.
func (d Document) Local() time.Time { return d.Ended.In(time.FixedZone("", d.Zone)) }

// HasFiles tells whether the receipt is of a card that was made with loose files.
func (d Document) HasFiles() bool { return d.Blank != nil && d.Blank.Files != nil }

// Like tells whether the receipt is of a card that says this of itself.
func (d Document) Like(c card.Record) card.Likeness { return d.Card.Like(c) }

// Latest is the latest receipt that is of a card and fits; of those that only may be of it, the latest counts if none
// is certainly. nil where there is none.
func Latest(all []Document, c card.Record, fits func(Document) bool) (doc *Document, like card.Likeness) {
	for i := range all {
		if !fits(all[i]) {
			continue
		}
		switch found := all[i].Like(c); {
		case found == card.Same:
			return &all[i], found
		case found == card.MayBe && doc == nil:
			doc, like = &all[i], found
		}
	}
	return doc, like
}
