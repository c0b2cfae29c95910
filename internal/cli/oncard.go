package cli

import (
	"context"

	"zipstamp/internal/card"
	"zipstamp/internal/job"
	"zipstamp/internal/meter"
	"zipstamp/internal/view"
)

// onCard is a run of a job on one card: the job's Session.
type onCard struct {
	session
	named []string   // the card, as it was named; empty: it is chosen
	found *card.Card // nil: it is to be found

	meter meter.Meter
	shown *view.Progress
}

func (a *app) onCard() onCard { return onCard{session: session{record: record{app: a}}} }

// do does a job with the card that is named first.
func (o *onCard) do(ctx context.Context, named []string, one job.One) error {
	o.named = named
	j := one.Job()
	j.Agreed, j.DryRun = o.yes, o.dryRun
	return job.Do(ctx, o, j)
}

func (o *onCard) Find(ctx context.Context) ([]*card.Card, error) {
	if o.found != nil {
		return []*card.Card{o.found}, nil
	}
	if err := o.begin(nil); err != nil {
		return nil, err
	}
	if len(o.named) == 0 && o.yes {
		return nil, &usageError{view.ErrNoCardNamed}
	}
	o.unattended = o.yes
	c, err := o.pickOrChoose(ctx, o.named)
	return []*card.Card{c}, err
}

func (o *onCard) Keep(_ *job.Target, e job.Ended) {
	noteLeft(&e.Receipt, e.Left)
	o.done = append(o.done, o.keep(e.Receipt, e.Sentence, e.Failed, e.Result))
}

// follow shows the progress from now on. left says in what state the card is if the program is ended at once.
func (o *onCard) follow(t *job.Target, title, left string) (unfollow func()) {
	o.shown = o.screen.Follow(view.Followed{Meter: &o.meter, Title: title})
	o.left.is(left)
	t.Hold.Tell(func(m card.Mishap) { o.shown.Say(view.MishapSentence(t.Card.Name, m)) })
	return func() {
		o.meter.End()
		o.shown.Stop()
		t.Hold.Tell(nil)
	}
}
