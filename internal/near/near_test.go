package near

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestWordsThatWereMeant(t *testing.T) {
	commands := []string{
		"blank", "cards", "check", "demo", "gauge", "pace", "peek", "practice", "receipts", "recheck",
		"stamp",
	}
	for typed, meant := range map[string][]string{
		"stmap": {"stamp"}, "chek": {"check"}, "guage": {"gauge"}, "STAMP": {"stamp"}, "prac": {"practice"},
		"recieps": {"receipts"}, "pek": {"peek"}, "x": nil, "": nil, "pa": nil, "burn": nil, "tests": nil,
	} {
		assert.Equal(t, meant, Words(typed, commands), "%q", typed)
	}
	assert.Equal(t, []string{"json"}, Words("josn", []string{"json", "yes", "sums"}))
}

// TestOneSlip has one letter of a word typed wrong, and finds the word.
func TestOneSlip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[a-z]{3,14}`).Draw(t, "word")
		at := rapid.IntRange(0, len(word)-1).Draw(t, "at")
		typed := map[string]string{
			"missing": word[:at] + word[at+1:], "doubled": word[:at+1] + word[at:],
			"wrong": word[:at] + "-" + word[at+1:],
		}[rapid.SampledFrom([]string{"missing", "doubled", "wrong"}).Draw(t, "slip")]
		if len(typed) < 3 {
			return
		}
		assert.Equal(t, []string{word}, Words(typed, []string{"0123456789", word}))
	})
}
