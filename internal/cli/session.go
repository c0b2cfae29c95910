package cli

import (
	"context"
	"errors"
	"strings"

	"github.com/spf13/pflag"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/job"
	"zipstamp/internal/view"
)

// session is what runs of jobs on cards share: most of a job's Session.
type session struct {
	record
	handling
	receipt string // where it goes, as it was named
	done    []concluded
}

func (s *session) flags(f *pflag.FlagSet, here card.Local) {
	s.handling.flags(f, here)
	receiptFlag(f, &s.receipt)
}

func (s *session) Admit(c *card.Card) (typed bool, err error) { return s.admit(c, s.handling) }

func (s *session) MayAsk(t *job.Target) error { return s.mayAsk(t.Card, s.handling, t.Typed) }

func (s *session) Reserve(k job.Kind, t *job.Target) error {
	return s.reserve(s.receipt, k.Name, t.Card)
}

func (s *session) Discard() { s.discard() }

func (s *session) Plan(_ context.Context, k job.Kind, all []*job.Target, then string) error {
	return s.planned(k.Name, s.plan(k, all, then), nil)
}

func (s *session) plan(k job.Kind, all []*job.Target, then string) view.Plan {
	p := view.Plan{Then: then, Keeps: k.Keeps}
	for _, t := range all {
		p.Cards = append(p.Cards, s.examine(t.Card))
	}
	return p
}

func (s *session) Offer(ctx context.Context, c *card.Card) (deleteSaved func(), err error) {
	return s.offerPending(ctx, s.who, c, s.handling)
}

func (s *session) Ask(ctx context.Context, k job.Kind, all []*job.Target, then string) error {
	s.screen.ShowPlan(s.plan(k, all, then))
	return s.confirm(ctx, all)
}

// confirm asks for the names of cards.
func (a *app) confirm(ctx context.Context, all []*job.Target) error {
	var cards []*card.Card
	var names []string
	for _, t := range all {
		cards, names = append(cards, t.Card), append(names, t.Card.Name)
	}
	yes, err := a.screen.Confirm(ctx, cards...)
	if err == nil && !yes {
		err = view.NotTyped(strings.Join(names, " "), len(cards) > 1)
	}
	return err
}

func (s *session) Claim(ctx context.Context, t *job.Target) (*card.Hold, error) {
	return s.take(ctx, t.Card, s.handling, t.Typed)
}

func (s *session) Show() error { return s.show(s.done...) }

func (s *session) PutBack(hold *card.Hold) error {
	kept, err := allJournals(s.who)
	if err != nil {
		return view.SavedUnread(err)
	}
	now := hold.Card()
	for _, p := range kept {
		if p.Err != nil || p.Card.Like(now.Record()) == card.Different {
			continue
		}
		fate, err := s.putBack(s.who, hold, p)
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
		s.screen.Say(view.EarlierTest(now.Name, said))
	}
	return nil
}
