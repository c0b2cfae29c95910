package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/pace"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

func (a *app) pace() *cobra.Command {
	p := &gauging{record: record{app: a}, job: receipt.JobPace, keeps: true}
	cmd := &cobra.Command{
		Use:   "pace [CARD]",
		Short: "Measure how fast a card is, and which marks it meets",
		Long: `Pace measures how fast a card reads and writes, in sequence and at single
places, and says which of the marks Class, U, V and A it meets; and, as far as
that can be known, whether it is the card or the reader that is slow. What is on
the card is kept: all that is written is what stands there already.

` + cardNames,
		Example: `  zipstamp pace /dev/sdb
  zipstamp pace good.card`,
		Args: takes("one card", 0, 1),
		RunE: func(cmd *cobra.Command, args []string) error { return p.measure(cmd.Context(), args) },
	}
	p.o.handling.flags(cmd.Flags())
	cmd.Flags().StringVar(&p.o.receipt, "receipt", "", "the `FILE` for the receipt, or a folder")
	return cmd
}

// measure is the story of pace.
func (g *gauging) measure(ctx context.Context, args []string) (err error) {
	defer g.close()
	if err := g.prepare(ctx, args); err != nil {
		return err
	}
	if g.asks() {
		if err := g.confirm(ctx); err != nil {
			return err
		}
	}
	if g.hold, err = g.take(ctx, g.card, g.o.handling, g.typed); err != nil {
		return err
	}
	if err := g.settlePending(); err != nil {
		return err
	}
	g.follow()
	rep, failed := pace.Test{Device: g.hold, Meter: &g.meter, Seed: randomSeed()}.Run(ctx)
	g.unfollow()
	if errors.Is(failed, pace.ErrTooSmall) {
		return &view.Refusal{Card: g.card.Name, Why: failed.Error(), Err: failed}
	}
	now := g.hold.Card()
	doc := receipt.NewPace(now, rep)
	g.letGo(ctx, &doc, card.Leaving{})
	doc.Verdict = verdictOf(failed)
	if failed == nil && rep.Unsteady > 0 {
		doc.Verdict = receipt.Verdict(gauge.Unsteady)
	}
	return g.conclude(doc, view.PaceSentence(now.Name, rep, failed), failed, failed)
}
