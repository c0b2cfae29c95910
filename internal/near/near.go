// Package near finds the words that somebody may have meant who typed another one.
package near

import (
	"slices"
	"strings"

	edlib "github.com/hbollon/go-edlib"
)

// longest bounds the words that are compared, runes; nobody means a longer one.
const longest = 64

// Words are those of known that are nearest to a word, the nearest first, at most three: a few letters are wrong,
// missing, doubled or exchanged, or the word is the start of one. The case does not count.
func Words(word string, known []string) []string {
	type candidate struct {
		word string
		off  int
	}
	var found []candidate
	low := strings.ToLower(word)
	for _, k := range known {
		if off, ok := distance(low, strings.ToLower(k)); ok {
			found = append(found, candidate{k, off})
		}
	}
	slices.SortStableFunc(found, func(a, b candidate) int { return a.off - b.off })
	var out []string
	for _, c := range found[:min(len(found), 3)] {
		if c.off > found[0].off {
			break
		}
		out = append(out, c.word)
	}
	return out
}

// distance is how far two words are from each other, and whether that is near.
func distance(typed, meant string) (int, bool) {
	n, m := len([]rune(typed)), len([]rune(meant))
	if n == 0 || m == 0 || n > longest || m > longest {
		return 0, false
	}
	off := edlib.OSADamerauLevenshteinDistance(typed, meant)
	most := 2
	switch {
	case min(n, m) <= 2:
		most = 0
	case max(n, m) <= 4 || min(n, m) <= 3:
		most = 1
	case min(n, m) >= 12:
		most = 3
	}
	if off <= most {
		return off, true
	}
	// the start of a word
	return most + 1, n >= 3 && strings.HasPrefix(meant, typed)
}
