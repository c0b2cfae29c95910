package cli

import (
	"path/filepath"
	"slices"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/job"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
)

// pastOf is what the receipts say of what a card holds, and of how fast it was. f is what is to be stamped; it may be
// nil.
func (a *app) pastOf(c *card.Card, f *image.File) *stamp.Past {
	p := &stamp.Past{Proven: receipt.Proves(a.history(), c.Record()), Undefined: c.Undefined()}
	p.Write, p.Read = a.ratesOf(c)
	last, like := receipt.Latest(a.history(), c.Record(), job.Overwrites)
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
	p.Same = f != nil && last.Image.Size == f.Size && filepath.Base(last.Image.Path) == filepath.Base(f.Path)
	return p
}

// ratesOf is how fast a card was when it was last measured, stamped or tested, bytes a second; 0 where that isn't
// known.
func (a *app) ratesOf(c *card.Card) (write, read float64) {
	last, _ := receipt.Latest(a.history(), c.Record(), func(d receipt.Document) bool {
		w, _ := d.Rates()
		return w > 0
	})
	if last == nil {
		return 0, 0
	}
	return last.Rates()
}

// unfinishedStamp says that the last stamp of a card did not come to its end, if that is known: from the card, which
// has its mark, or from the receipts. nil where nothing says so.
func (a *app) unfinishedStamp(c *card.Card) *stamp.Mark {
	if r, err := c.OpenToRead(); err == nil {
		defer r.Close()
		start := make([]byte, 512)
		if _, err := r.ReadAt(start, 0); err == nil && stamp.IsMarked(start) {
			return stamp.MarkOn(start)
		}
	}
	last, like := receipt.Latest(a.history(), c.Record(), job.Overwrites)
	if last == nil || like != card.Same || last.Job != receipt.JobStamp ||
		!slices.Contains([]string{string(stamp.NoTable), string(stamp.Uncertain)}, last.Card.State) {
		return nil
	}
	return &stamp.Mark{Started: last.Started, Name: filepath.Base(last.Image.Path)}
}
