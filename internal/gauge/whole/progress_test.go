package whole

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/state"
)

func TestProgressIsKeptAndChecked(t *testing.T) {
	folder := state.Place{Home: t.TempDir(), Folder: "tests"}
	record := card.Record{Name: "sdb", Kind: "block device", Size: 64e6, Serial: "R-0001", Reader: true}
	p := Progress{
		Size: 64e6, First: 64e6, Head: 16 << 20, Bad: []gauge.Stretch{gauge.StretchOf(512, 512, gauge.Worn)}, Bits: 3,
	}
	require.NoError(t, Keep(folder, record, p))
	p.Head = 32 << 20
	require.NoError(t, Keep(folder, record, p))
	found, unusable := Find(folder.Path(), record)
	require.Len(t, found, 1)
	assert.Equal(t, p, found[0].Progress)
	assert.False(t, found[0].Same, "the serial number is that of a reader")
	assert.Empty(t, unusable)
	text, err := os.ReadFile(filepath.Join(folder.Path(), progressName(p.Nonce)))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder.Path(), "copy"+progressSuffix), text, 0o600))
	found, unusable = Find(folder.Path(), record)
	assert.Len(t, found, 1)
	require.Len(t, unusable, 1)
	assert.ErrorContains(t, unusable[0], "not under the name of its test")
	other := record
	other.Size++
	found, _ = Find(folder.Path(), other)
	assert.Empty(t, found, "it is of another card")
	require.NoError(t, Drop(folder, p.Nonce))
	require.NoError(t, Drop(folder, p.Nonce), "it may be gone")
	found, _ = Find(folder.Path(), record)
	assert.Empty(t, found)

	for why, change := range map[string]func(*kept){
		"another version":       func(k *kept) { k.Version = 2 },
		"of a card with":        func(k *kept) { k.Progress.Size-- },
		"numbers make no sense": func(k *kept) { k.Progress.Head = 3 },
		"list of bad places makes ": func(k *kept) {
			k.Progress.Bad = []gauge.Stretch{gauge.StretchOf(0, -512, gauge.Worn)}
		},
	} {
		k := kept{progressVersion, record, p}
		change(&k)
		text, err := json.Marshal(k)
		require.NoError(t, err)
		_, err = readProgress(text)
		assert.ErrorContains(t, err, why)
	}
}

// FuzzProgress reads anything, and what is accepted can be carried on.
func FuzzProgress(f *testing.F) {
	text, err := json.Marshal(kept{
		progressVersion,
		card.Record{Size: 64e6},
		Progress{Size: 64e6, First: 64e6, Head: 16 << 20, Bad: []gauge.Stretch{gauge.StretchOf(512, 512, gauge.Worn)}},
	})
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		k, err := readProgress(text)
		if err != nil {
			return
		}
		var b gauge.Bad
		for _, e := range k.Progress.Bad {
			b.Add(e)
		}
		if n := len(b.List); n > 0 && b.List[n-1].End() > k.Card.Size {
			t.Fatal("beyond the card")
		}
	})
}
