package card

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
)

// TestOpenToCompareReadsAndNeverWrites reads a file that may not be written, and a practice card, and fails to write the former.
func TestOpenToCompareReadsAndNeverWrites(t *testing.T) {
	dir := t.TempDir()
	plain := filepath.Join(dir, "plain.img")
	text := bytes.Repeat([]byte("low water at noon.......tides..."), 1<<12)
	require.NoError(t, os.WriteFile(plain, text, 0o400))
	simulated := filepath.Join(dir, "a.card")
	require.NoError(t, practice.Create(simulated, practice.Spec{Version: practice.Version, Backing: "a.card.data", Claimed: 1 << 17}))
	require.NoError(t, os.WriteFile(simulated+".data", text, 0o600))
	pool, err := NewPool(1, 1<<17)
	require.NoError(t, err)
	defer pool.Close()
	buf, err := pool.Get(context.Background())
	require.NoError(t, err)
	for _, path := range []string{plain, simulated} {
		c, err := Find(path)
		require.NoError(t, err)
		d, err := c.OpenToCompare()
		require.NoError(t, err)
		require.Equal(t, int64(len(text)), d.Size())
		require.NoError(t, d.Forget())
		_, err = d.ReadAt(buf[:len(text)], 0)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(text, buf[:len(text)]), path)
		if path == plain {
			_, err = d.WriteAt(buf[:512], 0)
			require.Error(t, err)
			other, err := c.OpenToCompare() // others may read it too
			require.NoError(t, err)
			require.NoError(t, other.Close())
		}
		require.NoError(t, d.Close())
	}
	c, err := Find(plain)
	require.NoError(t, err)
	require.NoError(t, os.Remove(plain))
	_, err = c.OpenToCompare()
	var refused *RefusedError
	require.ErrorAs(t, err, &refused, "taken away since it was found")
}

func TestFoldersAreOnTheFileSystemThatHoldsThem(t *testing.T) {
	_, kind, err := Under(t.TempDir())
	require.NoError(t, err)
	c, proc, err := Under("/proc/self")
	if err == nil && proc != "" { // on Linux
		assert.NotEmpty(t, kind)
		assert.Equal(t, "proc", proc)
		assert.Nil(t, c, "it is on no disk")
	}
	_, _, err = Under(filepath.Join(t.TempDir(), "none"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
