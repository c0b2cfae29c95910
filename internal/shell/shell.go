// Package shell writes words as a shell reads them, for advice that a person can copy.
package shell

import (
	"slices"
	"strings"
	"sync/atomic"
)

// Kind is how a shell reads words.
type Kind uint8

// The kinds.
const (
	Posix   Kind = iota // the shells of Unix
	Windows             // PowerShell and cmd, as far as they agree
)

var here atomic.Uint32

// Use says which shell the person has who reads the advice of this program. Until then it is one of Unix.
func Use(k Kind) { here.Store(uint32(k)) }

// Quote writes a word as the shell would need it.
func Quote(word string) string {
	more := "_-./:=,@%+"
	windows := Kind(here.Load()) == Windows
	if windows {
		more = `_-./:=+\` // a comma makes lists, an at sign and a percent sign stand for variables
	}
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(more, r)
	}
	switch {
	case word != "" && strings.TrimLeftFunc(word, plain) == "":
		return word
	case windows && !strings.ContainsAny(word, "$`\""):
		return `"` + word + `"` // as both read it
	case windows:
		return "'" + strings.ReplaceAll(word, "'", "''") + "'" // as PowerShell does
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Command writes a command line as a person would type it.
func Command(words ...string) string {
	var quoted []string
	for _, w := range words {
		quoted = append(quoted, Quote(w))
	}
	return strings.Join(quoted, " ")
}

// File writes the path of a file as an argument: one that starts with a hyphen would be taken for an option.
func File(path string) string {
	if strings.HasPrefix(path, "-") && path != "-" {
		path = "./" + path
	}
	return Quote(path)
}

// With is a command line with more options. They stand before a "--", behind which nothing is an option.
func With(words []string, options ...string) []string {
	at := slices.Index(words, "--")
	if at < 0 {
		at = len(words)
	}
	return slices.Concat(words[:at], options, words[at:])
}
