package cardtest

import (
	"errors"
	"os"
	"path/filepath"

	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
)

// TB is a test, or a run of a property.
type TB interface {
	require.TestingT
	Helper()
	Cleanup(f func())
}

// Make makes a practice card in a folder, in the place of the one before, and finds it. holds is what it holds, nil for
// zeros; where the spec says no size, it claims as much. What it really holds is in the file that is named.
func Make(t TB, dir string, s practice.Spec, holds []byte) (c *card.Card, data string) {
	t.Helper()
	path := filepath.Join(dir, "a.card")
	data = path + ".data"
	require.NoError(t, errors.Join(os.RemoveAll(path), os.RemoveAll(data)))
	s.Version, s.Backing = practice.Version, filepath.Base(data)
	if s.Claimed == 0 {
		s.Claimed = practice.Size(len(holds))
	}
	require.NoError(t, practice.Create(path, s))
	if holds != nil {
		f, err := os.OpenFile(data, os.O_RDWR, 0) // of a lazy card more is in it than what it holds
		require.NoError(t, err)
		_, err = f.WriteAt(holds, 0)
		require.NoError(t, errors.Join(err, f.Close()))
	}
	c, err := here.Cards().Find(path)
	require.NoError(t, err)
	return c, data
}

// Insert makes a practice card and opens it until the test ends, if not closed before.
func Insert(t TB, dir string, s practice.Spec, holds []byte) (d card.Device, data string) {
	t.Helper()
	c, data := Make(t, dir, s, holds)
	d, err := c.Open()
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d, data
}
