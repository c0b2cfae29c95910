// Package shell writes words as a shell reads them, for advice that a person can copy.
package shell

import (
	"slices"
	"strings"
)

// Quote writes a word as a shell would need it.
func Quote(word string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(
			"_-./:=,@%+", r,
		)
	}
	if word != "" && strings.TrimLeftFunc(word, plain) == "" {
		return word
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
