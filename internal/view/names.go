package view

import (
	"errors"
	"fmt"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/card/alias"
	"zipstamp/internal/receipt"
)

// ErrForgetWhich says that a name can be taken only from a card that is named.
var ErrForgetWhich = errors.New("--forget needs the card whose name is to be taken away, and nothing else")

// NamesSentence says how many cards have names.
func NamesSentence(n int) string {
	if n == 0 {
		return "No card has a name. To give one: zipstamp cards name CARD NAME"
	}
	return Count(n, "card") + map[bool]string{true: " has a name:", false: " have names:"}[n == 1]
}

// IsCalled says what a card is called; NoNameYet that it has no name.
func IsCalled(card, name string) string {
	return fmt.Sprintf("%s is called %s.", word(card), word(name))
}

// NoNameYet says that a card has no name.
func NoNameYet(card string) string {
	return fmt.Sprintf("%s has no name. To give it one: zipstamp cards name %s NAME", word(card), word(card))
}

// NameForgotten says that a name was taken away.
func NameForgotten(card, name string) string {
	return fmt.Sprintf("%s is no longer called %s.", word(card), word(name))
}

// HasNoName says that there is no name to take away.
func HasNoName(card string) error { return fmt.Errorf("%s has no name", card) }

// BadName says why a text can be no name.
func BadName(text string, err error) error {
	return fmt.Errorf("%q can't be the name of a card: %w", text, err)
}

// NameUnkept says why a name can't be kept.
func NameUnkept(name string, err error) error {
	if errors.Is(err, alias.ErrUnknown) {
		return &Refusal{
			Card: name, Why: "it has no serial number of its own, so it could not be known again under a name",
			Next: "write the name on the card; in an SD slot of the computer, cards tell their own numbers",
		}
	}
	return fmt.Errorf("the name could not be kept: %w", err)
}

// Names shows names of cards.
func (v *Screen) Names(sentence string, list []alias.Entry) {
	a := &answer{style: strong, sentence: sentence}
	for _, e := range list {
		which := Bytes(e.Card.Size)
		for _, part := range []string{e.Card.Model, e.Card.Serial} {
			if part != "" {
				which += ", " + word(part)
			}
		}
		if !e.Card.IsDisk() {
			which += ", " + oneLine(e.Card.Path)
		}
		a.add(e.Name, "%s", which)
	}
	if len(list) > 0 {
		a.note("Commands find it by its name: zipstamp peek name:%s", oneLine(quotedName(list[0].Name)))
	}
	a.print(v.Out, v.width)
}

// Words beside what a shell offers.
const (
	NextCard  = "the next card that is put in"
	FromInput = "read it from the standard input"
)

// CardInBrief is a card in a few words.
func CardInBrief(c *card.Card) string {
	text := Bytes(c.Size)
	if title := word(c.Disk.Title()); title != "" {
		text += ", " + title
	}
	return text
}

// ReceiptInBrief is a receipt in a few words.
func ReceiptInBrief(doc receipt.Document) string {
	doc = fitToShow(doc)
	return fmt.Sprintf("%s %s, %s: %s", doc.Job, doc.Card.Name, Day(doc.Ended), Finding(doc))
}

func quotedName(name string) string {
	if strings.ContainsAny(name, " '\"$`\\!*?&;()<>|") {
		return `"` + strings.NewReplacer(`"`, `\"`, "$", `\$`, "`", "\\`", `\`, `\\`).Replace(name) + `"`
	}
	return name
}
