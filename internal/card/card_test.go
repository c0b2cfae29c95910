package card_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/testbed"
)

func TestEveryDeviceConforms(t *testing.T) {
	dir := t.TempDir()
	conform := func(path string) func(t *testing.T) {
		return func(t *testing.T) {
			c, err := card.Find(path)
			require.NoError(t, err)
			require.NoError(t, c.Refusal(card.Consent{}))
			cardtest.Conform(t, c.Open)
		}
	}
	t.Run("plain file", conform(testbed.Sparse(t, filepath.Join(dir, "plain"), 3<<20)))
	t.Run("plain file in memory", func(t *testing.T) {
		const memory = "/dev/shm"
		if _, err := os.Stat(memory); err != nil {
			t.Skip("no file system in memory here")
		}
		f, err := os.CreateTemp(memory, "zipstamp")
		require.NoError(t, err)
		defer os.Remove(f.Name())
		require.NoError(t, f.Truncate(2<<20+512))
		require.NoError(t, f.Close())
		conform(f.Name())(t)
	})
	for name, s := range map[string]practice.Spec{
		"practice":       {Claimed: 2 << 20},
		"practice, 4096": {Claimed: 2 << 20, Sector: 4096},
		"practice, slow": {Claimed: 2 << 20, ReadRate: 200e6, WriteRate: 100e6},
	} {
		path := filepath.Join(dir, name)
		s.Backing = name + ".data"
		require.NoError(t, practice.Create(path, s))
		t.Run(name, conform(path))
	}
	t.Run("loop device", func(t *testing.T) {
		conform(testbed.Loop(t, testbed.Sparse(t, filepath.Join(dir, "loop"), 3<<20)))(t)
	})
	t.Run("loop device, 4096", func(t *testing.T) {
		conform(testbed.Loop(t, testbed.Sparse(t, filepath.Join(dir, "loop4k"), 3<<20), "--sector-size", "4096"))(t)
	})
}

func TestWhatIsNoCard(t *testing.T) {
	dir := t.TempDir()
	broken := filepath.Join(dir, "broken.card")
	require.NoError(t, os.WriteFile(broken, []byte("practice_card = 1\nclaimed = \"1 MB\"\nbacking = \"x\"\ncolour = \"red\"\n"), 0o600))
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink("/dev/null", link))
	for path, why := range map[string]string{
		filepath.Join(dir, "none"): "there is no such card",
		dir:                        "it is a folder",
		"/dev/null":                "it is a character device",
		link:                       "it is a character device",
		broken:                     "line 4: colour is not a key of a practice card",
	} {
		_, err := card.Find(path)
		var refused *card.RefusedError
		require.ErrorAs(t, err, &refused, path)
		assert.Contains(t, refused.Error(), why)
		assert.Equal(t, path, refused.Card)
	}
	empty := testbed.Sparse(t, filepath.Join(dir, "empty"), 0)
	c, err := card.Find(empty)
	require.NoError(t, err)
	assert.ErrorContains(t, c.Refusal(card.Consent{}), "it is empty")
}
