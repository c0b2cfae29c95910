package card_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/file"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/testbed"
)

func TestEveryDeviceConforms(t *testing.T) {
	dir := t.TempDir()
	conform := func(path string) func(t *testing.T) {
		return func(t *testing.T) {
			c, err := here.Cards().Find(path)
			require.NoError(t, err)
			require.NoError(t, c.Refusal(card.Consent{}))
			require.NoError(t, cardtest.TestDevice(c.Open))
		}
	}
	t.Run("plain file", conform(testbed.Sparse(t, filepath.Join(dir, "plain"), 3<<20)))
	t.Run("plain file in memory", func(t *testing.T) {
		f, err := os.CreateTemp(testbed.Memory(t), "zipstamp")
		require.NoError(t, err)
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
	t.Run("practice, held", func(t *testing.T) {
		c, _ := cardtest.Make(t, t.TempDir(), practice.Spec{Claimed: 2 << 20}, nil)
		require.NoError(t, cardtest.TestDevice(func() (card.Device, error) {
			h, err := c.Claim(context.Background(), card.Freeing{})
			if err != nil {
				return nil, err
			}
			return h, nil
		}))
	})
	t.Run("files in a folder", func(t *testing.T) {
		dir := t.TempDir()
		require.NoError(t, cardtest.TestDevice(func() (card.Device, error) {
			s := file.NewSet(dir, 3<<20, nil)
			d := card.Named(s, dir)
			first := make([]byte, 3<<20)
			_, err := os.Stat(filepath.Join(dir, file.Name(0)))
			if err != nil {
				_, err = d.WriteAt(first, 0) // only what was written can be read
			} else {
				_, err = d.ReadAt(first[:4096], 0)
			}
			if err != nil {
				s.Close()
				return nil, err
			}
			return d, nil
		}))
	})
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
	require.NoError(t, os.WriteFile(broken,
		[]byte("practice_card = 1\nclaimed = \"1 MB\"\nbacking = \"x\"\ncolour = \"red\"\n"), 0o600))
	cases := map[string]guard.Cause{
		filepath.Join(dir, "none"): guard.NotThere,
		dir:                        guard.IsFolder,
		os.DevNull:                 guard.NoDevice,
		broken:                     guard.BadSpec,
	}
	if link := filepath.Join(dir, "link"); testbed.Linked(t, os.DevNull, link) {
		cases[link] = guard.NoDevice
	}
	for path, why := range cases {
		_, err := here.Cards().Find(path)
		var refused *card.RefusedError
		require.ErrorAs(t, err, &refused, path)
		assert.True(t, refused.For(why), "%v", refused)
		assert.Equal(t, path, refused.Card)
	}
	empty := testbed.Sparse(t, filepath.Join(dir, "empty"), 0)
	c, err := here.Cards().Find(empty)
	require.NoError(t, err)
	assert.ErrorContains(t, c.Refusal(card.Consent{}), string(guard.EmptyFile))
	_, err = here.Cards().Find(broken)
	assert.ErrorContains(t, err, "line 4: colour is not a key of a practice card")
}
