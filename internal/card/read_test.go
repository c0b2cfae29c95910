package card_test

import (
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
)

// piece is what a reader reads at once, bytes.
const piece = 64 << 10

// TestReaderReadsAnywhere reads stretches of any length at any place, of cards with sectors of both sizes.
func TestReaderReadsAnywhere(t *testing.T) {
	dir := t.TempDir()
	for _, sector := range []int{512, 4096} {
		size := 3*piece + 5*sector
		holds := make([]byte, size)
		random := rand.New(rand.NewPCG(8, uint64(sector)))
		for i := range holds {
			holds[i] = byte(random.Uint32())
		}
		path := filepath.Join(dir, "a.card")
		require.NoError(t, errors.Join(os.RemoveAll(path), os.RemoveAll(path+".data")))
		spec := practice.Spec{Claimed: practice.Size(size), Sector: sector, Backing: "a.card.data"}
		require.NoError(t, practice.Create(path, spec))
		require.NoError(t, os.WriteFile(path+".data", holds, 0o600))
		c, err := here.Cards().Find(path)
		require.NoError(t, err)
		r, err := c.OpenToRead()
		require.NoError(t, err)
		rapid.Check(t, func(t *rapid.T) {
			off := rapid.IntRange(0, size+10).Draw(t, "offset")
			buf := make([]byte, rapid.IntRange(1, 2*piece).Draw(t, "length"))
			n, err := r.ReadAt(buf, int64(off))
			want := holds[min(off, size):min(off+len(buf), size)]
			require.Equal(t, len(want), n)
			require.Equal(t, want, buf[:n])
			if n < len(buf) {
				require.ErrorIs(t, err, io.EOF)
			} else {
				require.NoError(t, err)
			}
		})
		require.NoError(t, r.Close())

		spec.Faults = []practice.Fault{{Kind: practice.FailRead, Sector: int64(2*piece) / int64(sector)}}
		require.NoError(t, errors.Join(os.Remove(path), os.Remove(path+".data")))
		require.NoError(t, practice.Create(path, spec))
		require.NoError(t, os.WriteFile(path+".data", holds, 0o600))
		c, err = here.Cards().Find(path)
		require.NoError(t, err)
		r, err = c.OpenToRead()
		require.NoError(t, err)
		n, err := r.ReadAt(make([]byte, 100), 2*piece-50)
		assert.Equal(t, 50, n, "what can be read is")
		assert.ErrorIs(t, err, fault.BadPlace)
		_, err = r.ReadAt(make([]byte, 100), 2*piece+int64(sector))
		assert.ErrorContains(t, err, "at byte 131072")
		require.NoError(t, r.Close())
	}
}
