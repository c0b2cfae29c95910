package cli

import (
	"context"
	"path/filepath"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/job"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/recheck"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

func (a *app) recheck() *cobra.Command {
	r := &rechecking{onCard: a.onCard()}
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
	onCard
	member, against string
	limit           limit

	card   *card.Card
	now    card.Record // what it says of itself, and what is on it
	before string      // what was begun with it and did not come to its end, in words; empty: nothing
	work   recheck.Job
	doc    receipt.Document
	name   string // of what the card is compared with
	files  bool   // that are loose files
	closes []func() error
}

// differsError says that a card is not as it was stamped.
type differsError struct{ sentence string }

func (e *differsError) Error() string { return e.sentence }

func (r *rechecking) run(ctx context.Context, args []string) error {
	if len(args) > 1 && r.against != "" {
		return &usageError{view.ErrImageOrOther}
	}
	if len(args) > 1 {
		if err := r.swapped(args[1], args[0], view.CardFirst); err != nil {
			return err
		}
	}
	defer func() {
		for _, end := range r.closes {
			_ = end() // nothing was written
		}
	}()
	return r.do(ctx, args[:min(len(args), 1)], job.One{
		Kind: job.Recheck, Run: r.compare,
		Fits: func(c *card.Card) (string, error) {
			r.card = c
			if err := r.open(); err != nil {
				return "", err
			}
			if len(args) > 1 {
				return "", r.toImage(args[1])
			}
			return "", r.toReceipt()
		},
	})
}

// open opens the card, and says what was begun with it and did not come to its end.
func (r *rechecking) open() error {
	dev, err := r.card.OpenToCompare()
	if err != nil {
		return err
	}
	r.closes = append(r.closes, dev.Close)
	r.work, r.doc = recheck.Job{Device: dev, Meter: &r.meter}, receipt.NewRecheck(r.card, dev)
	var marked *stamp.Mark
	r.now, marked = r.look(dev)
	if r.before = r.unfinished(r.now, marked); r.before != "" {
		r.screen.Say(r.before)
	}
	return nil
}

// toImage has the card compared with an image.
func (r *rechecking) toImage(path string) error {
	f, err := image.Open(path)
	if err != nil {
		return openError(err)
	}
	r.closes = append(r.closes, f.Close)
	if c := check.ReadCopy(f.Path); c != nil && !c.Whole() {
		r.screen.Say(view.CopyGaps(view.FileName(f.Path), c))
	}
	if err := bound(f, r.limit, r.card.Size); err != nil {
		return err
	}
	w := &r.work
	if w.Contents, err = f.Look(r.member); err != nil {
		return err
	}
	w.Image, r.name = f, view.FileName(f.Path)
	r.doc.Image = receipt.Image{
		Path: f.Path, Size: f.Size, Packing: w.Contents.Packing, Member: w.Contents.Member,
		Download: map[string]string{}, Image: map[string]string{}, Published: []receipt.Published{},
	}
	if past, like := r.history().Stamped(r.now); like == card.Same {
		w.Stamped, w.Known = past.Local(), knownOf(past)
	}
	return nil
}

// toReceipt has the card compared with what a receipt says that was stamped.
func (r *rechecking) toReceipt() error {
	past, err := r.fitting(r.now)
	if err != nil {
		return err
	}
	w := &r.work
	if w.Parts, w.Head, err = past.Image.Blocks.Parts(); err != nil {
		return &usageError{err}
	}
	w.PartSize, w.Size, w.Stamped = past.Image.Blocks.Size, past.Image.Unpacked, past.Local()
	w.Fine, w.Was = past.Image.Blocks.FineParts(), past.Image.Table.Was()
	r.name, r.files = view.FileName(past.Image.Path), past.HasFiles()
	r.doc.Image = past.Image
	r.doc.Image.Blocks, r.doc.Image.Table = nil, nil
	return nil
}

// compare reads the card.
func (r *rechecking) compare(ctx context.Context, _ *job.Target) (job.Ended, error) {
	shown := r.screen.Follow(view.Followed{Meter: &r.meter})
	rep, failed := r.work.Run(ctx)
	r.meter.End()
	shown.Stop()
	e := job.Ended{Receipt: r.doc, Failed: failed, Result: failed}
	e.Receipt.AddRecheck(rep, r.work.Image != nil, r.work.Stamped, view.Area)
	e.Receipt.Recheck.Before, e.Receipt.Verdict = r.before, verdictOf(failed)
	e.Sentence = view.RecheckSentence(r.card.Name, r.name, r.files, rep, failed)
	if failed == nil && !rep.Same() && !rep.Started() {
		e.Receipt.Verdict, e.Result = receipt.Differs, &differsError{e.Sentence}
	}
	return e, nil
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

// look tells what the card says of itself and what is on it, and the stamp of it that was interrupted, if its start
// shows one.
func (r *rechecking) look(dev card.Device) (now card.Record, marked *stamp.Mark) {
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
	last, _ := receipt.Latest(r.history(), now, job.Overwrites)
	switch {
	case last == nil || last.Verdict != receipt.Interrupted && last.Verdict != receipt.Failed:
		return ""
	case last.Job == receipt.JobWhole:
		return view.WholeUnfinished(r.card.Name, last.Ended)
	}
	return view.JobUnfinished(last.Job, r.card.Name, last.Ended)
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
		past, like = r.history().Stamped(now)
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
