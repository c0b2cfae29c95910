package job

import (
	"path/filepath"
	"slices"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/digest"
	"zipstamp/internal/gauge"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
)

// Past is the receipts that are kept, the latest first.
type Past []receipt.Document

// Of is what they say of what a card holds, and of how fast it was. path and size are of the file that is to be
// stamped; the path may be empty.
func (all Past) Of(c *card.Card, path string, size int64) *stamp.Past {
	p := &stamp.Past{Proven: receipt.Proves(all, c.Record()), Undefined: c.Undefined()}
	p.Write, p.Read = all.Rates(c)
	last, like := receipt.Latest(all, c.Record(), Overwrites)
	if last == nil || !last.Left() || last.Image.Blocks == nil || last.Image.Blocks.Size != digest.BlockSize {
		return p
	}
	if parts, _, err := last.Image.Blocks.Parts(); err == nil {
		p.Blocks = parts
	}
	if seen := last.Bytes.Displaced; seen != nil && like == card.Same && last.Verdict == receipt.Good {
		p.Displaced = *seen
		var then disks.Traffic
		if last.Card.Traffic != nil {
			then = *last.Card.Traffic
		}
		p.Untouched = c.Untouched(then)
	}
	p.Same = path != "" && last.Image.Size == size && filepath.Base(last.Image.Path) == filepath.Base(path)
	return p
}

// Rates is how fast a card was when it was last measured, stamped or tested, bytes a second; 0 where that isn't known.
func (all Past) Rates(c *card.Card) (write, read float64) {
	last, _ := receipt.Latest(all, c.Record(), func(d receipt.Document) bool {
		w, _ := d.Rates()
		return w > 0
	})
	if last == nil {
		return 0, 0
	}
	return last.Rates()
}

// Unfinished says that the last stamp of a card did not come to its end, if that is known: from the card, which has its
// mark, or from the receipts. nil where nothing says so.
func (all Past) Unfinished(c *card.Card) *stamp.Mark {
	if r, err := c.OpenToRead(); err == nil {
		defer r.Close()
		start := make([]byte, 512)
		if _, err := r.ReadAt(start, 0); err == nil && stamp.IsMarked(start) {
			return stamp.MarkOn(start)
		}
	}
	last, like := receipt.Latest(all, c.Record(), Overwrites)
	if last == nil || like != card.Same || last.Job != Stamp.Name ||
		!slices.Contains([]string{string(stamp.NoTable), string(stamp.Uncertain)}, last.Card.State) {
		return nil
	}
	return &stamp.Mark{Started: last.Started, Name: filepath.Base(last.Image.Path)}
}

// Tested is the receipt of the last test of a card that came to a result, and whether that is of this very card; nil if
// none is known.
func (all Past) Tested(now card.Record) (*receipt.Document, card.Likeness) {
	return receipt.Latest(all, now, func(d receipt.Document) bool {
		conclusive := d.Verdict != receipt.Interrupted && d.Verdict != receipt.Verdict(gauge.Inconclusive)
		return (d.Job == Spots.Name || d.Job == Whole.Name) && d.Gauge != nil && conclusive
	})
}

// Stamped is the receipt of the stamp that left on a card what is on it now, as far as is known; nil if there is none.
func (all Past) Stamped(now card.Record) (*receipt.Document, card.Likeness) {
	return receipt.Latest(all, now, receipt.Document.Left)
}
