package view

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"zipstamp/internal/shell"
)

// What somebody may have meant, in words.

// DidYouMean asks whether one of some command lines, or names, was meant; empty for none.
func DidYouMean(meant ...string) string {
	if len(meant) == 0 {
		return ""
	}
	var commands []string
	for _, m := range meant {
		commands = append(commands, oneLine(m))
	}
	return "did you mean " + strings.Join(commands, ", or ") + "?"
}

// UnknownCommand says that a word is not one of the commands below command.
func UnknownCommand(word, command, next string) error {
	return &Hint{Err: fmt.Errorf("%s has no command %q", command, word), Next: next}
}

// Commands lists the commands that there are.
func Commands(command string, names []string) string {
	return fmt.Sprintf("the commands are %s; see %s --help", and(names), command)
}

// UnknownFlag says that a command has no such flag.
func UnknownFlag(flag, command, next string) error {
	if next == "" {
		next = "see " + command + " --help"
	}
	return &Hint{Err: fmt.Errorf("%s has no flag %s", command, flag), Next: next}
}

// WrongValue says why a flag of a plain type doesn't take a value; nil for other types, whose own errors say it.
func WrongValue(flag, value, kind string, err error) error {
	switch {
	case kind == "bool":
		return fmt.Errorf("%s takes no value, or true or false, but not %q", flag, value)
	case kind == "duration":
		return fmt.Errorf("%s takes a time such as 5ms or 2s, and %q is none", flag, value)
	case kind == "int" && errors.Is(err, strconv.ErrRange):
		return fmt.Errorf("%s is out of range: %s", flag, value)
	case kind == "int":
		return fmt.Errorf("%s takes a whole number, and %q is none", flag, value)
	}
	return nil
}

// WhichGauge tells the tests of a card apart.
func WhichGauge(card string) string {
	return fmt.Sprintf("choose a test: zipstamp gauge spots %s takes a minute, and what is on the card stays; "+
		"zipstamp gauge "+
		"whole %s tests every block, and what is on it is lost", card, card)
}

// NoURL says how what is at an address can be had here.
func NoURL(url string) string {
	return "fetch it first: " + shell.Command("zipstamp", "fetch", url) + "; zipstamp stamp takes the address itself"
}

// QuotedTilde says why a path with a tilde wasn't found; corrected is the command that would.
func QuotedTilde(corrected string) string {
	if corrected == "" {
		return "write the tilde without quotes, or the whole path: the shell fills it in only without"
	}
	return "the shell fills a tilde in only without quotes; " + DidYouMean(corrected)
}

// The orders in which image and card are named.
const (
	ImageFirst = "the image comes first, and then the card"
	CardFirst  = "the card comes first, and then the image"
)

// WrongOrder says that image and card are named in the wrong order.
func WrongOrder(order, card, next string) error {
	return &Hint{Err: fmt.Errorf("%s; %s is a card", order, card), Next: next}
}

// NoSuchValue says that a flag doesn't take a value, with those that it takes.
func NoSuchValue(given string, known []string, next string) error {
	text := fmt.Sprintf("%q is not %s", given, or(known))
	if next == "" {
		return errors.New(text)
	}
	return &Hint{Err: errors.New(text), Next: next}
}
