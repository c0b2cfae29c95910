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
	cmd := a.command("pace", 0, 1, func(cmd *cobra.Command, args []string) error {
		return p.measure(cmd.Context(), args)
	})
	p.o.handling.flags(cmd.Flags(), a.streams.Here)
	receiptFlag(cmd.Flags(), &p.o.receipt)
	return cmd
}

// measure is the story of pace.
func (g *gauging) measure(ctx context.Context, args []string) (err error) {
	defer g.close()
	if err := g.prepare(ctx, args); err != nil {
		return err
	}
	if g.o.dryRun {
		return g.planned(g.then())
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
		return view.TooSmallToTime(g.card.Name, failed)
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
