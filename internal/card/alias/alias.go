// Package alias keeps the names that a person gives to cards: "greenhouse 3". A name is kept by what the card is known
// again by, so it stays when the card is in another reader or has another path.
//
// They are in one file of JSON, names.json: a list of objects with the name, and the card as receipts have it.
package alias

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"zipstamp/internal/card"
	"zipstamp/internal/state"
)

// Bounds of names.
const (
	longest = 40 // runes
	most    = 10_000
	maxFile = 8 << 20 // bytes
)

const file = "names.json"

// Entry is a card with a name.
type Entry struct {
	Name string      `json:"name"`
	Card card.Record `json:"card"`
}

// Book is the names in a folder.
type Book struct{ Place state.Place }

// Kinds of errors.
var (
	ErrNoName  = errors.New("the name has no letters or digits")
	ErrTooLong = fmt.Errorf("the name has more than %d characters", longest)
	ErrSigns   = errors.New("the name has characters that can't be seen")
	ErrMany    = errors.New("there are too many names")
	ErrUnknown = errors.New("nothing is known of the card by which it could be known again")
)

// Check tells whether a text can be a name, and gives it as it is kept: with single blanks.
func Check(text string) (string, error) {
	name := strings.Join(strings.Fields(text), " ")
	switch {
	case !strings.ContainsFunc(name, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }):
		return "", ErrNoName
	case len([]rune(name)) > longest:
		return "", ErrTooLong
	case strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsPrint(r) }):
		return "", ErrSigns
	}
	return name, nil
}

// All are the names that are kept, in their order. None are kept where there is no file.
func (b Book) All() ([]Entry, error) {
	text, err := state.ReadFile(filepath.Join(b.Place.Path(), file), maxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var all []Entry
	if err := json.Unmarshal(text, &all); err != nil {
		return nil, fmt.Errorf("%s is damaged: %w", filepath.Join(b.Place.Path(), file), err)
	}
	all = slices.DeleteFunc(all, func(e Entry) bool {
		_, err := Check(e.Name)
		return err != nil || e.Card.Size <= 0
	})
	return all[:min(len(all), most)], nil
}

// Of is the name of a card, if it has one: a card that only may be one with a name has none.
func Of(all []Entry, c card.Record) string {
	for _, e := range all {
		if e.Card.Like(c) == card.Same {
			return e.Name
		}
	}
	return ""
}

// Named finds the entry with a name, whatever the case.
func Named(all []Entry, name string) (Entry, bool) {
	name = strings.Join(strings.Fields(name), " ")
	i := slices.IndexFunc(all, func(e Entry) bool { return strings.EqualFold(e.Name, name) })
	if i < 0 {
		return Entry{}, false
	}
	return all[i], true
}

// Set gives a card a name that Check has seen, in place of the one that it has; empty takes it away. A name that
// another card has is that of this one then.
func (b Book) Set(c card.Record, name string) error {
	if c.Like(c) != card.Same {
		return ErrUnknown
	}
	all, err := b.All()
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(e Entry) bool {
		return e.Card.Like(c) == card.Same || strings.EqualFold(e.Name, name)
	})
	if name != "" {
		all = append(all, Entry{name, c})
	}
	if len(all) > most {
		return ErrMany
	}
	slices.SortFunc(all, func(a, b Entry) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return b.Place.Write(file, append(text, '\n'))
}
