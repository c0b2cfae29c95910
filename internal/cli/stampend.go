package cli

import (
	"context"
	"errors"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// finish lets the cards go, keeps the receipts and shows the result.
func (s *stamping) finish(ctx context.Context, report check.Report, out []stamp.Outcome) error {
	var all []concluded
	for i, t := range s.targets {
		all = append(all, s.finishOne(ctx, t, report, out[i]))
	}
	return s.show(all...)
}

// finishOne lets a card go and keeps its receipt.
func (s *stamping) finishOne(ctx context.Context, t *target, report check.Report, o stamp.Outcome) concluded {
	now, dev := t.card, card.Device(nil)
	if t.hold != nil {
		now, dev = t.hold.Card(), t.hold
	}
	doc := s.load.record(t, report, o, now, dev)
	doc.Spots = t.spots
	if t.hold != nil {
		doc.Bytes.Total = t.hold.Written()
		noteLeft(&doc, t.hold.LetGo(context.WithoutCancel(ctx), card.Leaving{
			Eject: s.set.eject && isOn(o), PowerOff: s.o.powerOff && isOn(o),
		}))
		if counted := now.Traffic(); counted.Since != "" {
			doc.Card.Traffic = &counted
		}
	}
	if t.past != nil && t.past.Proven && doc.Capacity == nil && o.Err == nil {
		doc.Capacity = &receipt.Capacity{Proven: true, Earlier: true}
	}
	t.hold = nil
	doc.AddCheck(report.Size, s.checking)
	doc.Verdict = verdict(o.Result, o.Err)
	return t.keep(doc, s.load.sentence(t, now.Name, o), o.Err, o.Err)
}

// isOn tells whether all that was to be stamped is on the card, be it a counterfeit.
func isOn(o stamp.Outcome) bool { return o.Err == nil || is[*stamp.CounterfeitError](o.Err) }

// describe looks at what is on the card now, for what is to be done next. That it can't be read is no reason to
// complain: it has just been read back.
func describe(t *target, doc *receipt.Document) {
	doc.Card.Beyond = t.hold.Size() - doc.Image.Unpacked
	r, err := card.NewReader(t.hold, nil)
	if err != nil {
		return
	}
	defer r.Close()
	d, err := layout.Describe(r, doc.Image.Unpacked, t.hold.SectorSize())
	if err != nil {
		return
	}
	doc.Card.DiskID, doc.Card.FileSystems = d.Table.ID, d.FileSystems()
	start := make([]byte, digest.HeadPiece)
	if _, err := r.ReadAt(start, 0); err == nil {
		doc.Image.Table = receipt.TableOf(d, start, r)
	}
	_ = doc.Image.Blocks.AddFine(d.Table, doc.Image.Unpacked, r) // without them a recheck tells less
}

func verdict(r stamp.Result, err error) receipt.Verdict {
	if err == nil && r.State != stamp.Verified {
		return receipt.NotReadBack
	}
	return verdictOf(err)
}

// verdictOf is the verdict on a job that can only be done, or not.
func verdictOf(err error) receipt.Verdict {
	switch {
	case errors.Is(err, view.ErrInterrupted):
		return receipt.Interrupted
	case is[*stamp.CounterfeitError](err):
		return receipt.Counterfeit
	case err != nil:
		return receipt.Failed
	}
	return receipt.Good
}
