package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/pace"
	"zipstamp/internal/job"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

func (a *app) pace() *cobra.Command {
	o := a.onCard()
	cmd := a.command("pace", 0, 1, func(cmd *cobra.Command, args []string) error {
		return o.do(cmd.Context(), args, job.One{
			Kind: job.Pace, Run: o.measure,
			Fits: func(*card.Card) (string, error) { return view.ThenPace, nil },
		})
	})
	o.flags(cmd.Flags(), a.streams.Here)
	return cmd
}

func (o *onCard) measure(ctx context.Context, t *job.Target) (job.Ended, error) {
	unfollow := o.follow(t, "", view.PaceLeft(t.Card.Name))
	rep, failed := pace.Test{Device: t.Hold, Meter: &o.meter, Seed: randomSeed()}.Run(ctx)
	unfollow()
	if errors.Is(failed, pace.ErrTooSmall) {
		return job.Ended{}, view.TooSmallToTime(t.Card.Name, failed)
	}
	now := t.Hold.Card()
	doc := receipt.NewPace(now, rep)
	doc.Verdict = verdictOf(failed)
	if failed == nil && rep.Unsteady > 0 {
		doc.Verdict = receipt.Verdict(gauge.Unsteady)
	}
	return job.Ended{
		Receipt: doc, Sentence: view.PaceSentence(now.Name, rep, failed), Failed: failed, Result: failed,
	}, nil
}
