package cli

import (
	"context"

	"github.com/spf13/pflag"

	"zipstamp/internal/card"
	"zipstamp/internal/image"
)

// handling is what the commands that write a card are told of how to come by it.
type handling struct{ yes, fixedDisk, wait bool }

func (h *handling) flags(f *pflag.FlagSet) {
	f.BoolVar(&h.yes, "yes", false, "don't ask; for scripts")
	f.BoolVar(&h.fixedDisk, "fixed-disk", false, "allow a disk that is no card; its name must be typed even with --yes")
	f.BoolVar(&h.wait, "wait", false, "wait until the programs that use what is on the card have ended")
}

// admit refuses a card that may not be written. typed says that its name must be typed, whatever else was said.
func (a *app) admit(c *card.Card, h handling) (typed bool, err error) {
	if err := refuseOtherFile(c); err != nil {
		return false, err
	}
	asked := card.Consent{FixedDisk: h.fixedDisk, Asked: a.screen.Asks()}
	if err := c.Refusal(asked); err != nil {
		return false, err
	}
	// What a person has to agree to, --yes can't.
	typed = len(c.Reasons(card.Consent{Asked: true})) > 0
	if h.yes && !typed {
		if err := c.Refusal(card.Consent{FixedDisk: h.fixedDisk}); err != nil {
			return false, err
		}
	}
	return typed, c.MayWrite()
}

// mayAsk refuses a card for which a person has to be asked where there is none, and no flag in place of it.
func (a *app) mayAsk(c *card.Card, h handling, typed bool) error {
	switch {
	case typed && !a.screen.Asks():
		return &card.RefusedError{
			Card:    c.Given,
			Reasons: []string{"it is no card, and there is no terminal to type its name on"},
			Next:    "run the command on a terminal; --yes doesn't replace the name of a fixed disk",
		}
	case !h.yes && !a.screen.Asks():
		return &card.RefusedError{
			Card:    c.Given,
			Reasons: []string{"there is no terminal to ask on whether it may be overwritten"},
			Next:    "in a script, say so with --yes",
		}
	}
	return nil
}

// take frees the card and takes it.
func (a *app) take(ctx context.Context, c *card.Card, h handling, typed bool) (*card.Hold, error) {
	return c.Claim(ctx, card.Freeing{
		Consent: card.Consent{FixedDisk: h.fixedDisk, Asked: !h.yes || typed}, Wait: h.wait,
		Waiting: func(err error) { a.screen.Say("Waiting: %s.", err) },
	})
}

// refuseOtherFile refuses a plain file that holds something else than a disk: a slip of the keyboard must not
// overwrite a download or a document.
func refuseOtherFile(c *card.Card) error {
	if c.Kind != card.Plain {
		return nil
	}
	f, err := image.Open(c.Path)
	if err != nil {
		return &card.RefusedError{Card: c.Given, Reasons: []string{"it can't be read"}, Err: err}
	}
	defer f.Close()
	what := f.What()
	if f.Packing() != image.RawPacking {
		what = "packed as " + f.Packing()
	}
	if what == "" {
		return nil
	}
	return &card.RefusedError{
		Card:    c.Given,
		Reasons: []string{"it is " + what + ", and not a file that stands for a card"},
		Next:    "see that image and card are in the right order; a practice card is made by: zipstamp practice new FILE --claimed 64MB",
	}
}
