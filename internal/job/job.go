// Package job tells the life of a job on cards, once: what can be wrong is found before the card is touched, then a
// person is asked, the card is taken, the work is done, the card is let go and the receipt is kept. What each kind of
// job does with a card stands in one table (kind.go).
package job

import (
	"context"
	"slices"

	"zipstamp/internal/card"
	"zipstamp/internal/receipt"
)

// Session is for whom a job is done: it knows the cards, who can be asked, and where receipts are.
type Session interface {
	// Find finds the cards that are meant.
	Find(ctx context.Context) ([]*card.Card, error)
	// Admit refuses a card that may not be written. typed says that a person must type its name, whatever was agreed.
	Admit(c *card.Card) (typed bool, err error)
	// MayAsk refuses a card for which somebody has to be asked, where nobody can be, and nothing was agreed.
	MayAsk(t *Target) error
	// Reserve makes room for the receipt of a card; Discard gives it up, unless the receipt was kept.
	Reserve(k Kind, t *Target) error
	Discard()
	// Plan shows what would be done, in a dry run; then says what, in words.
	Plan(ctx context.Context, k Kind, all []*Target, then string) error
	// Offer offers to put back what an interrupted test has saved of a card. deleteSaved deletes what of it wasn't.
	Offer(ctx context.Context, c *card.Card) (deleteSaved func(), err error)
	// Ask shows what will be done, and asks for the names of the cards. The error says that they weren't given.
	Ask(ctx context.Context, k Kind, all []*Target, then string) error
	// Claim frees a card and takes it.
	Claim(ctx context.Context, t *Target) (*card.Hold, error)
	// PutBack puts back what an interrupted test has saved of a card.
	PutBack(hold *card.Hold) error
	// Keep keeps the receipt of a card that is let go.
	Keep(t *Target, e Ended)
	// Show shows the results. Its error is that by which the program ends.
	Show() error
}

// Job is a job that is to be done with some cards.
type Job struct {
	Kind
	Agreed bool // nobody is asked, unless the name of a card must be typed
	DryRun bool

	// Fits sees whether the job can be done with the cards, which it doesn't touch, and says in words what will be
	// done. It leaves out those with which it can't, if others remain.
	Fits func(ctx context.Context, all []*Target) (then string, err error)
	// Foretell says before the question what else is known, or begins what needs no card; nil: nothing is.
	Foretell func(ctx context.Context, all []*Target)
	// Unasked says what is done where nobody has to be asked; nil: nothing is said.
	Unasked func(c *card.Card)
	// Run does the work, and gives a result for each card. After an error there is none, and no receipt.
	Run func(ctx context.Context, all []*Target) ([]Ended, error)
}

// Target is a card of a job.
type Target struct {
	Card        *card.Card
	Typed       bool       // a person must type its name, whatever was agreed
	Out         bool       // it is left out: nothing is done with it, and its receipt says so
	Hold        *card.Hold // nil: it is not taken
	DeleteSaved func()     // is called when the card is overwritten
}

// Ended is a job that has come to a result.
type Ended struct {
	Receipt  receipt.Document
	Sentence string       // that tells the result
	Failed   error        // why the job did not come to its end; nil: it did
	Result   error        // that the result stands for, by which the program ends; nil: it is good
	Leaving  card.Leaving // how the card is to be let go
	Left     card.Left    // how it was
}

// Do does a job.
func Do(ctx context.Context, s Session, j Job) error {
	all, err := j.find(ctx, s)
	if err != nil {
		return err
	}
	then, err := j.Fits(ctx, all)
	if err != nil {
		return err
	}
	in := slices.DeleteFunc(slices.Clone(all), func(t *Target) bool { return t.Out })
	asks := slices.ContainsFunc(in, j.asksFor)
	if asks {
		for _, t := range in {
			if err := s.MayAsk(t); err != nil {
				return err
			}
		}
	}
	if j.DryRun {
		j.foretell(ctx, in)
		return s.Plan(ctx, j.Kind, in, then)
	}
	if j.Receipt {
		defer s.Discard()
		for _, t := range all {
			if err := s.Reserve(j.Kind, t); err != nil {
				return err
			}
		}
	}
	for _, t := range in {
		if j.Saved != Offered {
			break
		}
		if t.DeleteSaved, err = s.Offer(ctx, t.Card); err != nil {
			return err
		}
	}
	j.foretell(ctx, in)
	typed := slices.ContainsFunc(in, func(t *Target) bool { return t.Typed })
	switch {
	case !asks && j.Unasked != nil:
		j.Unasked(in[0].Card)
	case asks && (!j.Agreed || typed):
		if err := s.Ask(ctx, j.Kind, in, then); err != nil {
			return err
		}
	}
	if err := j.work(ctx, s, all, in); err != nil || !j.Receipt {
		return err
	}
	return s.Show()
}

// find finds the cards, and refuses them if one may not be written.
func (j Job) find(ctx context.Context, s Session) (all []*Target, err error) {
	cards, err := s.Find(ctx)
	for _, c := range cards {
		t := &Target{Card: c, DeleteSaved: func() {}}
		if err == nil && j.Takes {
			t.Typed, err = s.Admit(c)
		}
		all = append(all, t)
	}
	return all, err
}

// asksFor tells whether a person has to be asked: when what is on a card will be lost, or something of it is in use.
func (j Job) asksFor(t *Target) bool {
	mounts, swaps := t.Card.InUse()
	return j.Takes && (!j.Keeps || t.Typed || len(mounts)+len(swaps) > 0)
}

// work takes the cards, does the work, lets them go and keeps their receipts. If one can't be had, nothing is done with
// any.
func (j Job) work(ctx context.Context, s Session, all, in []*Target) (err error) {
	var ended []Ended // none where the work came to no result
	defer func() {
		for i, t := range all {
			var e Ended
			if ended != nil {
				e = ended[i]
			}
			if t.Hold != nil { // also what the system has forgotten of a card that was not written, it may know again
				e.Left = t.Hold.LetGo(context.WithoutCancel(ctx), e.Leaving)
			}
			if ended != nil && j.Receipt {
				s.Keep(t, e)
			}
		}
	}()
	for _, t := range in {
		if !j.Takes {
			break
		}
		if t.Hold, err = s.Claim(ctx, t); err != nil {
			return err
		}
	}
	for _, t := range in {
		if j.Saved != PutBack {
			break
		}
		if err := s.PutBack(t.Hold); err != nil {
			return err
		}
	}
	results, err := j.Run(ctx, all)
	if err == nil {
		ended = results
	}
	return err
}

func (j Job) foretell(ctx context.Context, in []*Target) {
	if j.Foretell != nil {
		j.Foretell(ctx, in)
	}
}

// One is a job with one card. Its functions are those of Job.
type One struct {
	Kind
	Fits     func(c *card.Card) (then string, err error)
	Foretell func(c *card.Card)
	Unasked  func(c *card.Card)
	Run      func(ctx context.Context, t *Target) (Ended, error)
}

// Job is the job as one with some cards.
func (o One) Job() Job {
	j := Job{Kind: o.Kind, Unasked: o.Unasked}
	j.Fits = func(_ context.Context, all []*Target) (string, error) { return o.Fits(all[0].Card) }
	if o.Foretell != nil {
		j.Foretell = func(_ context.Context, all []*Target) { o.Foretell(all[0].Card) }
	}
	j.Run = func(ctx context.Context, all []*Target) ([]Ended, error) {
		e, err := o.Run(ctx, all[0])
		return []Ended{e}, err
	}
	return j
}
