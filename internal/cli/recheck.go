package cli

import (
	"context"
	"path/filepath"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/recheck"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

func (a *app) recheck() *cobra.Command {
	r := &rechecking{record: record{app: a}}
	cmd := a.command("recheck", 0, 2, func(cmd *cobra.Command, args []string) error {
		return r.run(cmd.Context(), args)
	})
	f := cmd.Flags()
	memberFlag(f, &r.member)
	f.StringVar(&r.against, "against", "", "")
	receiptFlag(f, &r.receipt)
	r.limit.flag(f)
	return cmd
}

// rechecking is a run of recheck.
type rechecking struct {
	record
	member, against, receipt string
	limit                    limit
	card                     *card.Card
}

// differsError says that a card is not as it was stamped.
type differsError struct{ sentence string }

func (e *differsError) Error() string { return e.sentence }

func (r *rechecking) run(ctx context.Context, args []string) (err error) {
	if err := r.begin(nil); err != nil {
		return err
	}
	if len(args) > 1 && r.against != "" {
		return &usageError{view.ErrImageOrOther}
	}
	if len(args) > 1 {
		if err := r.swapped(args[1], args[0], view.CardFirst); err != nil {
			return err
		}
	}
	if r.card, err = r.pickOrChoose(ctx, args); err != nil {
		return err
	}
	dev, err := r.card.OpenToCompare()
	if err != nil {
		return err
	}
	defer dev.Close()
	var m meter.Meter
	job := recheck.Job{Device: dev, Meter: &m}
	doc := receipt.NewRecheck(r.card, dev)
	now, marked := r.now(dev)
	before := r.unfinished(now, marked)
	if before != "" {
		r.screen.Say(before)
	}
	name, files := "", false
	if len(args) > 1 {
		f, err := image.Open(args[1])
		if err != nil {
			return openError(err)
		}
		defer f.Close()
		if c := check.ReadCopy(f.Path); c != nil && !c.Whole() {
			r.screen.Say(view.CopyGaps(view.FileName(f.Path), c))
		}
		if err := bound(f, r.limit, r.card.Size); err != nil {
			return err
		}
		if job.Contents, err = f.Look(r.member); err != nil {
			return err
		}
		job.Image, name = f, view.FileName(f.Path)
		doc.Image = receipt.Image{
			Path: f.Path, Size: f.Size, Packing: job.Contents.Packing, Member: job.Contents.Member,
			Download: map[string]string{}, Image: map[string]string{}, Published: []receipt.Published{},
		}
		if past, like := r.stampOf(now); like == card.Same {
			job.Stamped = past.Local()
			job.Known = knownOf(past)
		}
	} else {
		past, err := r.fitting(now)
		if err != nil {
			return err
		}
		if job.Parts, job.Head, err = past.Image.Blocks.Parts(); err != nil {
			return &usageError{err}
		}
		job.PartSize, job.Size, job.Stamped = past.Image.Blocks.Size, past.Image.Unpacked, past.Local()
		job.Fine = past.Image.Blocks.FineParts()
		name, files = view.FileName(past.Image.Path), past.HasFiles()
		job.Was = past.Image.Table.Was()
		doc.Image = past.Image
		doc.Image.Blocks, doc.Image.Table = nil, nil
	}
	if err := r.reserve(r.receipt, receipt.JobRecheck, r.card); err != nil {
		return err
	}
	shown := r.screen.Follow(view.Followed{Meter: &m})
	rep, failed := job.Run(ctx)
	m.End()
	shown.Stop()
	doc.AddRecheck(rep, job.Image != nil, job.Stamped, view.Area)
	doc.Recheck.Before = before
	sentence := view.RecheckSentence(r.card.Name, name, files, rep, failed)
	doc.Verdict = verdictOf(failed)
	result := failed
	if failed == nil && !rep.Same() && !rep.Started() {
		doc.Verdict = receipt.Differs
		result = &differsError{sentence}
	}
	return r.conclude(doc, sentence, failed, result)
}

// knownOf is what a receipt says that was stamped; nil where it doesn't have a digest of each block.
func knownOf(past *receipt.Document) *recheck.Known {
	b := past.Image.Blocks
	if b == nil || b.Size != digest.BlockSize || past.HasFiles() {
		return nil
	}
	parts, _, err := b.Parts()
	if err != nil {
		return nil
	}
	return &recheck.Known{Name: filepath.Base(past.Image.Path), Blocks: parts}
}

// now is what the card says of itself and what is on it, and the stamp of it that was interrupted, if its start shows
// one.
func (r *rechecking) now(dev card.Device) (now card.Record, marked *stamp.Mark) {
	now = r.card.Record()
	rd, err := card.NewReader(dev, nil)
	if err != nil {
		return now, nil
	}
	defer rd.Close()
	if d, err := layout.Describe(rd, dev.Size(), dev.SectorSize()); err == nil {
		now.DiskID = d.Table.ID
	}
	start := make([]byte, 512)
	if _, err = rd.ReadAt(start, 0); err == nil {
		marked = stamp.MarkOn(start)
	}
	return now, marked
}

// unfinished says what was begun with the card and did not come to its end; empty if nothing is known.
func (r *rechecking) unfinished(now card.Record, marked *stamp.Mark) string {
	if marked != nil {
		return view.StampUnfinished(r.card.Name, *marked)
	}
	if len(r.pendingOf(r.who, r.card)) > 0 {
		return view.TestUnfinished(r.card.Name)
	}
	last, _ := receipt.Latest(r.history(), now, func(d receipt.Document) bool {
		return d.Job == receipt.JobStamp || d.Job == receipt.JobWhole || d.Job == receipt.JobBlank
	})
	switch {
	case last == nil || last.Verdict != receipt.Interrupted && last.Verdict != receipt.Failed:
		return ""
	case last.Job == receipt.JobWhole:
		return view.WholeUnfinished(r.card.Name, last.Ended)
	}
	return view.JobUnfinished(last.Job, r.card.Name, last.Ended)
}

// stampOf is the receipt of the stamp that left on the card what is on it now, as far as is known; nil if there is
// none.
func (r *rechecking) stampOf(now card.Record) (*receipt.Document, card.Likeness) {
	return receipt.Latest(r.history(), now, receipt.Document.Left)
}

// fitting is the receipt to compare with: the one that was named, or the one of the last stamp of this card.
func (r *rechecking) fitting(now card.Record) (*receipt.Document, error) {
	var past *receipt.Document
	if r.against != "" {
		doc, err := receipt.Load(r.against)
		if err != nil {
			return nil, &usageError{err}
		}
		past = &doc
	} else {
		var like card.Likeness
		past, like = r.stampOf(now)
		switch {
		case past == nil:
			return nil, view.NoStampKnown(r.card.Name, r.card.Given)
		case like != card.Same:
			return nil, view.PerhapsStamped(r.card.Name, past.Ended,
				r.who.short(filepath.Join(r.who.receiptsFolder(r.set).Path(), past.File)))
		}
	}
	if past.Image.Blocks == nil {
		return nil, &usageError{view.NoBlocks(past.Ended, view.CompareWithImage(r.card.Given))}
	}
	return past, nil
}
