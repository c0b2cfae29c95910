package card_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
)

// TestOpenToCompareReadsAndNeverWrites reads a file that may not be written, and a practice card, and fails to write
// the former.
func TestOpenToCompareReadsAndNeverWrites(t *testing.T) {
	dir := t.TempDir()
	plain := filepath.Join(dir, "plain.img")
	text := bytes.Repeat([]byte("low water at noon.......tides..."), 1<<12)
	require.NoError(t, os.WriteFile(plain, text, 0o400))
	simulated := filepath.Join(dir, "a.card")
	require.NoError(t, practice.Create(simulated, practice.Spec{
		Version: practice.Version, Backing: "a.card.data", Claimed: 1 << 17,
	}))
	require.NoError(t, os.WriteFile(simulated+".data", text, 0o600))
	pool, err := card.NewPool(1, 1<<17)
	require.NoError(t, err)
	defer pool.Close()
	buf, err := pool.Get(context.Background())
	require.NoError(t, err)
	for _, path := range []string{plain, simulated} {
		c, err := here.Cards().Find(path)
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
	c, err := here.Cards().Find(plain)
	require.NoError(t, err)
	require.NoError(t, os.Remove(plain))
	_, err = c.OpenToCompare()
	var refused *card.RefusedError
	require.ErrorAs(t, err, &refused, "taken away since it was found")
}

func TestFoldersAreOnTheFileSystemThatHoldsThem(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("what a folder stands on is not known on " + runtime.GOOS)
	}
	_, at, err := here.Cards().Under(t.TempDir())
	require.NoError(t, err)
	c, proc, err := here.Cards().Under("/proc/self")
	if err == nil && proc.Kind != "" { // on Linux
		assert.NotEmpty(t, at.Kind)
		assert.True(t, proc.NoDisk)
		assert.Nil(t, c, "it is on no disk")
	}
}

// A file that was made again under its name may have the number of the one before, and is another card all the same.
func TestFileThatWasMadeAgainIsAnotherCard(t *testing.T) {
	if runtime.GOOS != "linux" && runtime.GOOS != "windows" {
		t.Skip("when a file was made is not asked for on " + runtime.GOOS)
	}
	path := filepath.Join(t.TempDir(), "a.card")
	before := ""
	for range 8 {
		require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
		find := func() card.Identity {
			c, err := here.Cards().Find(path)
			require.NoError(t, err)
			return c.Identity()
		}
		now := find()
		assert.NotEmpty(t, now.File)
		assert.NotEqual(t, before, now.File)
		before = now.File
		assert.Equal(t, card.Same, now.Like(find()))
		require.NoError(t, os.Remove(path))
		time.Sleep(20 * time.Millisecond) // the time of making is kept in ticks of the system
	}
}
