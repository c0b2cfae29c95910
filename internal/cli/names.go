package cli

import (
	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/card/alias"
	"zipstamp/internal/document"
	"zipstamp/internal/view"
)

// book is where the names are that a person has given to cards.
func (p person) book() alias.Book { return alias.Book{Place: p.stateFolder("names")} }

// allNames reads the names, once. That they can't be read is no reason to stop: they are only a courtesy.
func (a *app) allNames() []alias.Entry {
	if a.named {
		return a.names
	}
	a.named = true
	who, err := whoRuns()
	if err != nil {
		return nil
	}
	_ = who.as(func() error {
		a.names, err = who.book().All()
		return err
	})
	return a.names
}

// ownName is the name that a person has given to a card.
func (a *app) ownName(c card.Record) string { return alias.Of(a.allNames(), c) }

// known finds the card with a name.
func (a *app) known(name string) (card.Record, bool) {
	e, ok := alias.Named(a.allNames(), name)
	return e.Card, ok
}

func (a *app) cardsName() *cobra.Command {
	var forget bool
	cmd := a.command("cards name", 0, 2, func(_ *cobra.Command, args []string) error {
		who, err := whoRuns()
		if err != nil {
			return err
		}
		switch {
		case forget && len(args) != 1:
			return &usageError{view.ErrForgetWhich}
		case len(args) == 0:
			return a.showNames(view.NamesSentence(len(a.allNames())), a.allNames())
		}
		c, err := a.finder.Find(args[0])
		if err != nil {
			return err
		}
		name := a.ownName(c.Record())
		switch {
		case forget:
			if name == "" {
				return &usageError{view.HasNoName(c.Name)}
			}
			if err := who.as(func() error { return who.book().Set(c.Record(), "") }); err != nil {
				return err
			}
			return a.showNames(view.NameForgotten(c.Name, name), nil)
		case len(args) == 1 && name == "":
			return a.showNames(view.NoNameYet(c.Name), nil)
		case len(args) == 1:
			return a.showNames(view.IsCalled(c.Name, name), []alias.Entry{{Name: name, Card: c.Record()}})
		}
		if name, err = alias.Check(args[1]); err != nil {
			return &usageError{view.BadName(args[1], err)}
		}
		if err := who.as(func() error { return who.book().Set(c.Record(), name) }); err != nil {
			return view.NameUnkept(c.Name, err)
		}
		return a.showNames(view.IsCalled(c.Name, name), []alias.Entry{{Name: name, Card: c.Record()}})
	})
	cmd.Flags().BoolVar(&forget, "forget", false, "")
	return cmd
}

func (a *app) showNames(sentence string, list []alias.Entry) error {
	if !a.json {
		a.screen.Names(sentence, list)
		return nil
	}
	a.printJSON(struct {
		document.Head
		List []alias.Entry `json:"list"`
	}{document.New(document.Names, statusGood, sentence), append([]alias.Entry{}, list...)})
	return nil
}
