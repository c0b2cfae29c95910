package cli

import (
	"context"

	"github.com/spf13/cobra"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/job"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

func (a *app) blank() *cobra.Command {
	b := &blanking{onCard: a.onCard()}
	var o stampOptions
	var files filesLoad
	cmd := a.command("blank", 0, maxArrive, func(cmd *cobra.Command, args []string) error {
		noEject, err := cmd.Flags().GetBool("no-eject")
		if err != nil {
			return err
		}
		b.noEject = noEject
		if _, err := layout.Label(layout.ExFATKind, b.wanted.label); err != nil { // so FAT can't have it either
			_, err = layout.Label(layout.FAT32Kind, b.wanted.label)
			return &usageError{err}
		}
		if cmd.Flags().Changed("with") {
			files.wanted, files.realSize = b.wanted, b.realSize
			return b.with(cmd, o, &files, args)
		}
		for _, only := range []string{
			"within", "digest", "sums", "key", "max-unpacked", "unchecked", "no-spots", "write-all", "arrive",
		} {
			if cmd.Flags().Changed(only) {
				return &usageError{view.OnlyWith("--"+only, "--with")}
			}
		}
		if len(args) > 1 {
			return &usageError{view.ErrOneBlank}
		}
		return b.do(cmd.Context(), args, job.One{Kind: job.Blank, Fits: b.fits, Run: b.run})
	})
	f := cmd.Flags()
	b.flags(f, a.streams.Here)
	f.StringVar(&b.wanted.label, "label", "", "")
	f.Var(choice{[]string{askFAT32, askExFAT}, &b.wanted.kind}, "file-system", "")
	f.BoolVar(&b.realSize, "real-size", false, "")
	f.StringVar(&files.path, "with", "", "")
	f.StringVar(&files.within, "within", "", "")
	o.published.compareFlags(f)
	o.published.limit.flag(f)
	f.BoolVar(&o.unchecked, "unchecked", false, "")
	f.BoolVar(&o.noSpots, "no-spots", false, "")
	f.Bool("write-all", false, "")
	f.IntVar(&o.arrive, "arrive", 0, "")
	noEjectFlag(f)
	return cmd
}

// blanking is a run of blank that makes an empty card.
type blanking struct {
	onCard
	wanted   wantedFS
	realSize bool
	noEject  bool
	size     int64 // of the card that is used, bytes; 0: all
}

// with makes cards with loose files, which is a run of stamping.
func (b *blanking) with(cmd *cobra.Command, o stampOptions, files *filesLoad, cards []string) error {
	if b.wanted.kind == askExFAT {
		return &usageError{view.ErrFilesOnFAT}
	}
	s := &stamping{session: b.session, o: o, load: files}
	if err := s.begin(cmd.Flags()); err != nil {
		return err
	}
	return s.run(cmd.Context(), cards)
}

func (b *blanking) fits(c *card.Card) (then string, err error) {
	if b.size, err = b.usable(c, b.realSize); err != nil {
		return "", err
	}
	plan, err := b.plan(c.Size, c.SectorSize)
	if err != nil {
		return "", err
	}
	return view.ThenBlank(plan.Kind(), plan.Label, b.size, b.wanted.kind != ""), nil
}

func (b *blanking) run(ctx context.Context, t *job.Target) (job.Ended, error) {
	plan, err := b.plan(t.Hold.Size(), t.Hold.SectorSize())
	if err != nil {
		return job.Ended{}, err
	}
	work := blank.Job{Device: t.Hold, Begun: t.DeleteSaved, Meter: &b.meter, Plan: plan, Size: b.size}
	unfollow := b.follow(t, "", view.BlankLeft(t.Card.Name))
	r, failed := work.Run(ctx)
	unfollow()
	now := t.Hold.Card()
	doc := receipt.NewBlank(now, work, r)
	doc.Verdict = verdictOf(failed)
	return job.Ended{
		Receipt: doc, Sentence: view.BlankSentence(now.Name, doc.Blank, failed), Failed: failed, Result: failed,
		Leaving: card.Leaving{Eject: b.set.eject && !b.noEject && failed == nil},
	}, nil
}

// plan lays out a card of which some may be used.
func (b *blanking) plan(size int64, sector int) (*blank.Plan, error) {
	if b.size > 0 {
		size = min(b.size, size)
	}
	return b.wanted.plan(size, max(sector, 512), nil, newIDs())
}

// usable is how much of a card is used: what a test found to be real, if that is wanted, or all (0). A card that a test
// found to hold less than it claims is refused, if it isn't.
func (a *app) usable(c *card.Card, realSize bool) (int64, error) {
	now := c.Record()
	if d, err := c.Contents(); err == nil {
		now.DiskID = d.Table.ID
	}
	latest, like := a.history().Tested(now)
	counterfeit := latest != nil && latest.Gauge.Loss != nil
	switch {
	case !realSize && counterfeit && like == card.Same:
		return 0, view.HoldsLess(c.Name, latest.Ended)
	case !realSize && counterfeit:
		a.screen.Say(view.PerhapsCounterfeit(c.Name, c.Given, latest.Ended))
		return 0, nil
	case !realSize:
		return 0, nil
	case latest == nil:
		return 0, view.Untested(c.Name, c.Given)
	case like != card.Same:
		return 0, view.PerhapsTested(c.Name, c.Given, latest.Ended)
	case !counterfeit:
		return 0, nil // it holds what it claims
	case !latest.Gauge.Loss.Exact:
		return 0, view.SizeInexact(c.Name, c.Given)
	}
	return latest.Gauge.Loss.Real, nil
}
