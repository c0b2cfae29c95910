package digest

import (
	"fmt"
	"regexp"
	"strconv"
	"time"
)

// mostCopied is how many lines with digests a note of a copy stands above.
const mostCopied = 2

var copied = regexp.MustCompile(`^# A copy of ("(?:[^"\\]|\\.)*"), saved by zipstamp on ([-:0-9TZ]+);`)

// CopyNote is a comment above the digests of a card's copy, one line: with it, they are told from published ones
// wherever the file goes.
func CopyNote(card string, made time.Time) string {
	return fmt.Sprintf("# A copy of %q, saved by zipstamp on %s; nobody published its digests", card,
		made.UTC().Format(time.RFC3339))
}

// CopyAbove tells whether such a note stands above a line, and what it says: the card's name, and the time.
func (s *Sums) CopyAbove(line int) (card string, made time.Time, is bool) {
	for _, r := range rows(decode(s.Text)) {
		found := copied.FindStringSubmatch(r.text)
		if found == nil || line <= r.line || line > r.line+mostCopied {
			continue
		}
		card, err := strconv.Unquote(found[1])
		made, other := time.Parse(time.RFC3339, found[2])
		if err == nil && other == nil {
			return card, made, true
		}
	}
	return "", time.Time{}, false
}
