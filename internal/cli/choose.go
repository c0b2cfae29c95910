package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/view"
)

// nextCard is the word for the card that is put in next.
const nextCard = "next"

// pick finds the card that the user names.
func (a *app) pick(ctx context.Context, given string) (*card.Card, error) {
	if given != nextCard {
		return a.finder.Find(given)
	}
	cards, err := a.awaitCards(ctx, 1, nil)
	if err != nil {
		return nil, err
	}
	return cards[0], nil
}

// errEnough ends the waiting for cards.
var errEnough = errors.New("enough cards")

// awaitCards waits for the next n cards that are put in and may be written. Those in taken don't count.
func (a *app) awaitCards(ctx context.Context, n int, taken []*card.Card) ([]*card.Card, error) {
	var cards []*card.Card
	here := map[string]string{}    // what a card at a place is, for when it is gone
	went := map[string]time.Time{} // when a card went, by what it is
	if a.unattended {
		all, err := a.finder.All()
		if err != nil {
			return nil, err
		}
		for _, c := range all {
			here[c.Path] = likeness(c)
		}
	}
	err := a.finder.Watch(ctx, func() { a.screen.Waiting(n) }, func(c card.Change) error {
		if !c.Arrived {
			a.screen.Left(c.Card)
			cards = without(cards, c.Card)
			went[here[c.Card.Path]] = time.Now()
			return nil
		}
		if a.unattended {
			who := likeness(c.Card)
			here[c.Card.Path] = who
			if at, known := went[who]; who != "" && known && time.Since(at) < resetTime {
				a.screen.Say(view.JustReset(c.Card.Name, resetTime))
				return nil
			}
		}
		reasons := c.Card.Reasons(card.Consent{Asked: true})
		a.screen.Arrived(a.inspect(c.Card, reasons))
		if len(reasons) > 0 || len(without(taken, c.Card)) < len(taken) {
			return nil
		}
		if cards = append(cards, c.Card); len(cards) == n {
			return errEnough
		}
		a.screen.Say(view.PutInMore(n - len(cards)))
		return nil
	})
	if !errors.Is(err, errEnough) {
		return nil, err
	}
	return cards, nil
}

// resetTime is how soon a card is back after its reader or hub was reset.
const resetTime = 15 * time.Second

// likeness is what a card and its reader say, but for the name that the kernel gives, and how what is on it is laid
// out: of two cards in one reader, mostly only that differs. It is empty for what is no card.
func likeness(c *card.Card) string {
	i := c.Identity()
	var on []byte
	if c.Size == 0 || !isCard(c.Reasons(card.Consent{Asked: true})) {
		return ""
	}
	if d, err := c.Contents(); err == nil {
		on, _ = json.Marshal(d) // what can't be told apart is taken for the same
	}
	return fmt.Sprintf("%s %d %q %q %q %s", i.Bus, i.Size, i.CID, i.Serial, c.Model, on)
}

// without is all less the card at the same place.
func without(all []*card.Card, c *card.Card) (left []*card.Card) {
	for _, one := range all {
		if one.Path != c.Path {
			left = append(left, one)
		}
	}
	return left
}

// choose has a person choose one of the cards that may be written. One that is alone is asked for too, unless it will
// be anyway.
func (a *app) choose(ctx context.Context, askedAnyway bool) (*card.Card, error) {
	if !a.screen.Asks() {
		return nil, &usageError{view.ErrNoTerminal}
	}
	listed, err := a.survey()
	if err != nil {
		return nil, err
	}
	var may []view.Listed
	for _, l := range listed {
		if len(l.Reasons) == 0 {
			may = append(may, l)
		}
	}
	switch {
	case len(may) == 0:
		return nil, view.NoneHere()
	case len(may) == 1 && askedAnyway:
		return may[0].Card, nil
	}
	chosen, err := a.screen.Choose(ctx, may)
	if err != nil {
		return nil, err
	}
	if chosen < 0 {
		return nil, view.NoneChosen()
	}
	return may[chosen].Card, nil
}

// pickOrChoose takes the card that was named, and has one chosen where none was.
func (a *app) pickOrChoose(ctx context.Context, args []string) (*card.Card, error) {
	if len(args) > 0 {
		return a.pick(ctx, args[0])
	}
	return a.choose(ctx, false)
}

// pickAll finds all cards of a run: those named, the next ones that are put in, or the one that is chosen. None is
// named twice.
func (a *app) pickAll(ctx context.Context, args []string, arrive int) (cards []*card.Card, err error) {
	for _, given := range args {
		c, err := a.pick(ctx, given)
		if err != nil {
			return nil, err
		}
		if len(without(cards, c)) < len(cards) {
			return nil, &usageError{view.CardTwice(c.Path)}
		}
		cards = append(cards, c)
	}
	if arrive > 0 {
		more, err := a.awaitCards(ctx, arrive, cards)
		return append(cards, more...), err
	}
	if len(cards) == 0 {
		c, err := a.choose(ctx, true)
		return []*card.Card{c}, err
	}
	return cards, nil
}
