package digest

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestCopyNote reads the note of a copy with any name, among the digests of other files.
func TestCopyNote(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.String().Draw(t, "name")
		at := time.Unix(rapid.Int64Range(0, 4e9).Draw(t, "time"), 0).UTC()
		before := rapid.IntRange(0, 3).Draw(t, "others")
		line := func(file string) string { return strings.Repeat("ab", 32) + "  " + file + "\n" }
		text := strings.Repeat(line("other.img"), before) + CopyNote(name, at) + "\n" +
			line("a.img.gz") + line("a.img") + line("later.img")
		s, err := ReadSums(strings.NewReader(text), "SHA256SUMS")
		require.NoError(t, err)
		assert.Len(t, s.Entries, before+3)
		for _, e := range s.Entries {
			card, made, is := s.CopyAbove(e.Line)
			require.Equal(t, strings.HasPrefix(e.File, "a."), is, fmt.Sprint(e))
			if is {
				assert.Equal(t, []any{name, at}, []any{card, made})
			}
		}
	})
}
