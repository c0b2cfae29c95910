package receipt

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/document"
	"zipstamp/internal/layout"
	"zipstamp/internal/state"
)

var noon = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)

func TestReceiptIsThereWholeOrNotAtAll(t *testing.T) {
	home := t.TempDir()
	names := func() []string {
		entries, err := os.ReadDir(filepath.Join(home, "a/b"))
		require.NoError(t, err)
		var out []string
		for _, e := range entries {
			out = append(out, e.Name())
		}
		return out
	}
	d, err := InFolder(state.Place{Home: home, Folder: "a/b"}, "stamp", "my card/1", noon)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(home, "a/b/20260501-120000-stamp-my_card_1.json"), d.Path())
	require.Len(t, names(), 1)
	assert.True(t, strings.HasSuffix(names()[0], ".part"))
	d.Discard()
	assert.Empty(t, names())

	for range 3 {
		d, err = InFolder(state.Place{Home: home, Folder: "a/b"}, "stamp", "x", noon)
		require.NoError(t, err)
		require.NoError(t, d.Keep(Document{Head: document.Head{Sentence: "tide"}}))
	}
	assert.Equal(t, []string{
		"20260501-120000-stamp-x-2.json", "20260501-120000-stamp-x-3.json", "20260501-120000-stamp-x.json",
	}, names())
	text, err := os.ReadFile(filepath.Join(home, "a/b", names()[0]))
	require.NoError(t, err)
	var doc Document
	require.NoError(t, json.Unmarshal(text, &doc), "no room is left over behind it")
	assert.Equal(t, "tide", doc.Sentence)

	// Two runs in one second, on two cards of one name that ends like a number, keep both receipts.
	one, err := InFolder(state.Place{Home: home, Folder: "a/c"}, "stamp", "sd-1", noon)
	require.NoError(t, err)
	two, err := InFolder(state.Place{Home: home, Folder: "a/c"}, "stamp", "sd-1", noon)
	require.NoError(t, err)
	require.NoError(t, two.Keep(Document{Head: document.Head{Sentence: "two"}}))
	require.NoError(t, one.Keep(Document{Head: document.Head{Sentence: "one"}}))
	for name, says := range map[string]string{"sd-1.json": "one", "sd-1-2.json": "two"} {
		text, err := os.ReadFile(filepath.Join(home, "a/c", "20260501-120000-stamp-"+name))
		require.NoError(t, err)
		assert.Contains(t, string(text), says)
	}

	file := filepath.Join(home, "mine.json")
	require.NoError(t, os.WriteFile(file, []byte("my diary"), 0o600))
	_, err = AtFile(file, state.Owner{})
	require.ErrorContains(t, err, "only a receipt is replaced")
	const old = `{"receipt": 1, "job": "stamp"}`
	require.NoError(t, os.WriteFile(file, []byte(old), 0o600))
	d, err = AtFile(file, state.Owner{})
	require.NoError(t, err)
	text, err = os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, old, string(text), "kept until the new one is whole")
	require.NoError(t, d.Keep(doc))
	text, err = os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "tide")
	_, err = AtFile(home, state.Owner{})
	assert.ErrorContains(t, err, "is not a plain file")
}

func TestLargestReceiptFitsIntoItsRoom(t *testing.T) {
	full := make([]layout.Extent, MaxExtents)
	for i := range full {
		full[i] = layout.Extent{Offset: 1 << 41, Length: 1 << 41}
	}
	points := make([]Point, 256)
	for i := range points {
		points[i] = Point{Offset: 1 << 41, Rate: 123456789.1234567}
	}
	text, err := document.Encode(Document{
		Speed: Speed{points, points}, Bad: Extents{1, full}, Repairs: Repairs{Blocks: Extents{1, full}},
		Head: document.Head{Sentence: strings.Repeat("x", 4096)},
		Image: Image{
			Path: strings.Repeat("x", 4096), Blocks: BlocksOf(make([]digest.Block, maxParts), make([]digest.Part, 64)),
		}, Card: Card{Record: card.Record{Path: strings.Repeat("x", 4096)}},
	})
	require.NoError(t, err)
	assert.Less(t, len(text), reserve)
}

// TestManyRunsAtOnce has many runs begin and keep receipts at the same moment, each of which removes what it takes for
// torn.
func TestManyRunsAtOnce(t *testing.T) {
	place := state.Place{Home: t.TempDir(), Folder: "receipts"}
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 40 {
				d, err := InFolder(place, "stamp", "x", noon)
				if assert.NoError(t, err) {
					assert.NoError(t, d.Keep(Document{Head: document.Head{Sentence: "tide"}}))
				}
			}
		})
	}
	all.Wait()
	entries, err := os.ReadDir(place.Path())
	require.NoError(t, err)
	assert.Len(t, entries, 8*40)
}
