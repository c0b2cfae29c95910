package cli

import (
	"errors"
	"slices"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/job"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// ended is what became of a card.
func (s *stamping) ended(t *target, report check.Report, o stamp.Outcome) job.Ended {
	now, dev := t.Card, card.Device(nil)
	if t.Hold != nil {
		now, dev = t.Hold.Card(), t.Hold
	}
	doc := s.load.record(t, report, o, now, dev)
	doc.Spots = t.spots
	if t.Hold != nil {
		doc.Bytes.Total = t.Hold.Written()
	}
	if t.past != nil && t.past.Proven && doc.Capacity == nil && o.Err == nil {
		doc.Capacity = &receipt.Capacity{Proven: true, Earlier: true}
	}
	doc.AddCheck(report.Size, s.checking)
	doc.Verdict = verdict(o.Result, o.Err)
	return job.Ended{
		Receipt: doc, Sentence: s.load.sentence(t, now.Name, o), Failed: o.Err, Result: o.Err,
		Leaving: card.Leaving{Eject: s.set.eject && isOn(o), PowerOff: s.o.powerOff && isOn(o)},
	}
}

// Keep keeps the receipt of a card.
func (s *stamping) Keep(of *job.Target, e job.Ended) {
	if of.Hold != nil {
		noteLeft(&e.Receipt, e.Left)
		if counted := of.Hold.Card().Traffic(); counted.Since != "" {
			e.Receipt.Card.Traffic = &counted
		}
	}
	s.done = append(s.done, s.of(of).keep(e.Receipt, e.Sentence, e.Failed, e.Result))
}

// of is the run's own of a card.
func (s *stamping) of(card *job.Target) *target {
	return s.targets[slices.IndexFunc(s.targets, func(t *target) bool { return t.Target == card })]
}

// isOn tells whether all that was to be stamped is on the card, be it a counterfeit.
func isOn(o stamp.Outcome) bool { return o.Err == nil || is[*stamp.CounterfeitError](o.Err) }

// describe looks at what is on the card now, for what is to be done next. That it can't be read is no reason to
// complain: it has just been read back.
func describe(t *target, doc *receipt.Document) {
	doc.Card.Beyond = t.Hold.Size() - doc.Image.Unpacked
	r, err := card.NewReader(t.Hold, nil)
	if err != nil {
		return
	}
	defer r.Close()
	d, err := layout.Describe(r, doc.Image.Unpacked, t.Hold.SectorSize())
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
