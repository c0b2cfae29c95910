// Package job tells the life of a job on a card, once: what can be wrong is found before the card is touched, then a
// person is asked, the card is taken, the work is done, the card is let go and the receipt is kept. What each kind of
// job does with a card stands in one table (kind.go).
package job

import (
	"context"

	"zipstamp/internal/card"
	"zipstamp/internal/receipt"
)

// Session is for whom a job is done: it knows the cards, who can be asked, and where receipts are.
type Session interface {
	// Find finds the card that is meant.
	Find(ctx context.Context) (*card.Card, error)
	// Admit refuses a card that may not be written. typed says that a person must type its name, whatever was agreed.
	Admit(c *card.Card) (typed bool, err error)
	// MayAsk refuses a card for which somebody has to be asked, where nobody can be, and nothing was agreed.
	MayAsk(c *card.Card, typed bool) error
	// Reserve makes room for the receipt; Discard gives it up, unless the receipt was kept.
	Reserve(k Kind, c *card.Card) error
	Discard()
	// Plan shows what would be done, in a dry run; then says what, in words.
	Plan(k Kind, c *card.Card, then string) error
	// Offer offers to put back what an interrupted test has saved of the card. deleteSaved deletes what of it wasn't.
	Offer(ctx context.Context, c *card.Card) (deleteSaved func(), err error)
	// Ask shows what will be done, and asks for the card's name. The error says that it wasn't given.
	Ask(ctx context.Context, k Kind, c *card.Card, then string) error
	// Claim frees the card and takes it.
	Claim(ctx context.Context, c *card.Card, typed bool) (*card.Hold, error)
	// PutBack puts back what an interrupted test has saved of the card.
	PutBack(hold *card.Hold) error
	// Conclude keeps the receipt and shows the result. left is how the card was let go, if it was taken.
	Conclude(e Ended, left card.Left) error
}

// Job is a job that is to be done with one card.
type Job struct {
	Kind
	Agreed bool // nobody is asked, unless the card's name must be typed
	DryRun bool

	// Fits sees whether the job can be done with the card, which it doesn't touch, and says in words what will be done.
	Fits func(ctx context.Context, c *card.Card) (then string, err error)
	// Foretell says before the question what else is known; nil: nothing is.
	Foretell func(c *card.Card)
	// Unasked says what is done where nobody has to be asked; nil: nothing is said.
	Unasked func(c *card.Card)
	// Run does the work. After an error there is no result, and no receipt.
	Run func(ctx context.Context, t Taken) (Ended, error)
}

// Taken is a card at the mercy of a job.
type Taken struct {
	Card        *card.Card
	Hold        *card.Hold // nil: it was not taken
	DeleteSaved func()     // is called when the card is overwritten
}

// Ended is a job that has come to a result.
type Ended struct {
	Receipt  receipt.Document
	Sentence string       // that tells the result
	Failed   error        // why the job did not come to its end; nil: it did
	Result   error        // that the result stands for, by which the program ends; nil: it is good
	Leaving  card.Leaving // how the card is to be let go
}

// Do does a job.
func Do(ctx context.Context, s Session, j Job) error {
	c, err := s.Find(ctx)
	if err != nil {
		return err
	}
	typed := false
	if j.Takes {
		if typed, err = s.Admit(c); err != nil {
			return err
		}
	}
	then, err := j.Fits(ctx, c)
	if err != nil {
		return err
	}
	asks := j.Takes && (!j.Keeps || typed || inUse(c))
	if asks {
		if err := s.MayAsk(c, typed); err != nil {
			return err
		}
	}
	if j.DryRun {
		j.foretell(c)
		return s.Plan(j.Kind, c, then)
	}
	if j.Receipt {
		if err := s.Reserve(j.Kind, c); err != nil {
			return err
		}
		defer s.Discard()
	}
	t := Taken{Card: c, DeleteSaved: func() {}}
	if j.Saved == Offered {
		if t.DeleteSaved, err = s.Offer(ctx, c); err != nil {
			return err
		}
	}
	j.foretell(c)
	switch {
	case !asks && j.Unasked != nil:
		j.Unasked(c)
	case asks && (!j.Agreed || typed):
		if err := s.Ask(ctx, j.Kind, c, then); err != nil {
			return err
		}
	}
	if j.Takes {
		if t.Hold, err = s.Claim(ctx, c, typed); err != nil {
			return err
		}
	}
	e, left, err := j.work(ctx, s, t)
	if err != nil || !j.Receipt {
		return err
	}
	return s.Conclude(e, left)
}

// work does the work with a card that is taken, and lets it go.
func (j Job) work(ctx context.Context, s Session, t Taken) (e Ended, left card.Left, err error) {
	if t.Hold != nil {
		defer func() { left = t.Hold.LetGo(context.WithoutCancel(ctx), e.Leaving) }()
	}
	if j.Saved == PutBack {
		if err := s.PutBack(t.Hold); err != nil {
			return e, left, err
		}
	}
	e, err = j.Run(ctx, t)
	return e, left, err
}

func (j Job) foretell(c *card.Card) {
	if j.Foretell != nil {
		j.Foretell(c)
	}
}

// inUse tells whether something of a card is mounted, or swapped to.
func inUse(c *card.Card) bool {
	mounts, swaps := c.InUse()
	return len(mounts)+len(swaps) > 0
}
