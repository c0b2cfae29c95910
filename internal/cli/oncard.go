package cli

import (
	"context"
	"errors"

	"github.com/spf13/pflag"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/job"
	"zipstamp/internal/meter"
	"zipstamp/internal/view"
)

// onCard is a run of a job on one card: the job's Session.
type onCard struct {
	record
	handling
	named   []string // the card, as it was named; empty: it is chosen
	receipt string   // where the receipt goes, as it was named
	found   *card.Card

	meter meter.Meter
	shown *view.Progress
}

func (o *onCard) flags(f *pflag.FlagSet, here card.Local) {
	o.handling.flags(f, here)
	receiptFlag(f, &o.receipt)
}

// do does a job with the card that is named first.
func (o *onCard) do(ctx context.Context, named []string, j job.Job) error {
	o.named = named
	j.Agreed, j.DryRun = o.yes, o.dryRun
	return job.Do(ctx, o, j)
}

func (o *onCard) Find(ctx context.Context) (*card.Card, error) {
	if o.found != nil {
		return o.found, nil
	}
	if err := o.begin(nil); err != nil {
		return nil, err
	}
	if len(o.named) == 0 && o.yes {
		return nil, &usageError{view.ErrNoCardNamed}
	}
	o.unattended = o.yes
	return o.pickOrChoose(ctx, o.named)
}

func (o *onCard) Admit(c *card.Card) (typed bool, err error) { return o.admit(c, o.handling) }

func (o *onCard) MayAsk(c *card.Card, typed bool) error { return o.mayAsk(c, o.handling, typed) }

func (o *onCard) Reserve(k job.Kind, c *card.Card) error { return o.reserve(o.receipt, k.Name, c) }

func (o *onCard) Discard() { o.discard() }

func (o *onCard) Plan(k job.Kind, c *card.Card, then string) error {
	return o.planned(k.Name, view.Plan{Cards: []view.Listed{o.examine(c)}, Then: then, Keeps: k.Keeps}, nil)
}

func (o *onCard) Offer(ctx context.Context, c *card.Card) (deleteSaved func(), err error) {
	return o.offerPending(ctx, o.who, c, o.handling)
}

func (o *onCard) Ask(ctx context.Context, k job.Kind, c *card.Card, then string) error {
	o.screen.ShowPlan(view.Plan{Cards: []view.Listed{o.examine(c)}, Then: then, Keeps: k.Keeps})
	yes, err := o.screen.Confirm(ctx, c)
	if err == nil && !yes {
		err = view.NotTyped(c.Name, false)
	}
	return err
}

func (o *onCard) Claim(ctx context.Context, c *card.Card, typed bool) (*card.Hold, error) {
	return o.take(ctx, c, o.handling, typed)
}

func (o *onCard) PutBack(hold *card.Hold) error {
	kept, err := allJournals(o.who)
	if err != nil {
		return view.SavedUnread(err)
	}
	now := hold.Card()
	for _, p := range kept {
		if p.Err != nil || p.Card.Like(now.Record()) == card.Different {
			continue
		}
		fate, err := o.putBack(o.who, hold, p)
		if errors.Is(err, journal.ErrOtherCard) || is[*journal.SectorError](err) {
			continue
		}
		said := view.FateText(fate)
		if is[*journal.NotBackError](err) { // it stays saved
			said, err = view.ErrorText(err), nil
		}
		if err != nil {
			return err
		}
		o.screen.Say(view.EarlierTest(now.Name, said))
	}
	return nil
}

func (o *onCard) Conclude(e job.Ended, left card.Left) error {
	noteLeft(&e.Receipt, left)
	return o.conclude(e.Receipt, e.Sentence, e.Failed, e.Result)
}

// follow shows the progress from now on. left says in what state the card is if the program is ended at once.
func (o *onCard) follow(t job.Taken, title, left string) (unfollow func()) {
	o.shown = o.screen.Follow(view.Followed{Meter: &o.meter, Title: title})
	o.left.is(left)
	t.Hold.Tell(func(m card.Mishap) { o.shown.Say(view.MishapSentence(t.Card.Name, m)) })
	return func() {
		o.meter.End()
		o.shown.Stop()
		t.Hold.Tell(nil)
	}
}
