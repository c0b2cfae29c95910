package cli

import (
	"context"
	"math/rand/v2"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

func (a *app) blank() *cobra.Command {
	b := &blanking{gauging: &gauging{record: record{app: a}, job: receipt.JobBlank}}
	cmd := a.command("blank", 0, 1, func(cmd *cobra.Command, args []string) error {
		noEject, err := cmd.Flags().GetBool("no-eject")
		if err != nil {
			return err
		}
		b.noEject = noEject
		return b.run(cmd.Context(), args)
	})
	f := cmd.Flags()
	b.o.handling.flags(f)
	f.StringVar(&b.label, "label", "", "")
	f.BoolVar(&b.realSize, "real-size", false, "")
	noEjectFlag(f)
	receiptFlag(f, &b.o.receipt)
	return cmd
}

// blanking is a run of blank.
type blanking struct {
	*gauging
	label    string
	realSize bool
	noEject  bool
}

func (b *blanking) run(ctx context.Context, args []string) (err error) {
	defer b.close()
	label, err := layout.Label(b.label)
	if err != nil {
		return &usageError{err}
	}
	if err := b.prepare(ctx, args); err != nil {
		return err
	}
	size, err := b.size()
	if err != nil {
		return err
	}
	if b.o.dryRun {
		return b.planned(view.ThenBlank(label, size))
	}
	deleteSaved, err := b.offerPending(ctx, b.who, b.card, b.o.handling)
	if err != nil {
		return err
	}
	if !b.o.yes || b.typed {
		if err := b.confirmCard(ctx, b.card, false, view.ThenBlank(label, size)); err != nil {
			return err
		}
	}
	if b.hold, err = b.take(ctx, b.card, b.o.handling, b.typed); err != nil {
		return err
	}
	job := blank.Job{
		Device: b.hold, Begun: deleteSaved, Meter: &b.meter, Label: label, Size: size, Time: time.Now(),
		Disk: rand.Uint32(), Serial: rand.Uint32(),
	}
	if err := job.Check(); err != nil {
		return err
	}
	b.follow()
	r, failed := job.Run(ctx)
	b.unfollow()
	return b.finishBlank(ctx, job, r, failed)
}

// size is how much of the card is used: what a test found to be real, or all (0).
func (b *blanking) size() (int64, error) {
	now := b.card.Record()
	if d, err := b.card.Contents(); err == nil {
		now.DiskID = d.Table.ID
	}
	latest, like := b.lastGauge(now)
	counterfeit := latest != nil && latest.Gauge.Loss != nil
	name, given := b.card.Name, b.card.Given
	switch {
	case !b.realSize && counterfeit && like == card.Same:
		return 0, view.HoldsLess(name, latest.Ended)
	case !b.realSize && counterfeit:
		b.screen.Say(view.PerhapsCounterfeit(name, given, latest.Ended))
		return 0, nil
	case !b.realSize:
		return 0, nil
	case latest == nil:
		return 0, view.Untested(name, given)
	case like != card.Same:
		return 0, view.PerhapsTested(name, given, latest.Ended)
	case !counterfeit:
		return 0, nil // it holds what it claims
	case !latest.Gauge.Loss.Exact:
		return 0, view.SizeInexact(name, given)
	}
	return latest.Gauge.Loss.Real, nil
}

// lastGauge is the receipt of the last test of a card that came to a result, and whether that is of this very card; nil
// if none is known.
func (a *app) lastGauge(now card.Record) (*receipt.Document, card.Likeness) {
	return receipt.Latest(a.history(), now, func(doc receipt.Document) bool {
		conclusive := doc.Verdict != receipt.Interrupted && doc.Verdict != receipt.Verdict(gauge.Inconclusive)
		return (doc.Job == receipt.JobSpots || doc.Job == receipt.JobWhole) && doc.Gauge != nil && conclusive
	})
}

func (b *blanking) finishBlank(ctx context.Context, job blank.Job, r blank.Result, failed error) error {
	now := b.hold.Card()
	doc := receipt.NewBlank(now, job, r)
	b.letGo(ctx, &doc, card.Leaving{Eject: b.set.eject && !b.noEject && failed == nil})
	doc.Verdict = verdictOf(failed)
	return b.conclude(doc, view.BlankSentence(now.Name, doc.Blank, failed), failed, failed)
}
