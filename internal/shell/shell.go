// Package shell writes words as a shell reads them, for advice that a person can copy.
package shell

import "strings"

// Quote writes a word as a shell would need it.
func Quote(word string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_-./:=,@%+", r)
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
