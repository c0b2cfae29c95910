package file

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
)

// broken is a set whose accesses fail.
type broken struct{ *Set }

func (b broken) ReadAt([]byte, int64) (int, error) { return 0, fault.BadPlace }

// TestDiskThatLeavesSlowly: what fails before the system has taken a disk away that was pulled out is no bad place.
func TestDiskThatLeavesSlowly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var there atomic.Bool
		there.Store(true)
		d := card.Named(broken{NewSet(t.TempDir(), 1<<20, there.Load)}, "/media/wren/TIDES")
		fails := func() error { _, err := d.ReadAt(nil, 4096); return err }
		for range maxWaits / 2 {
			assert.True(t, card.IsBadPlace(fails()), "the disk is still there after a while: a bad place")
		}
		time.AfterFunc(leaveTime/2, func() { there.Store(false) })
		assert.ErrorAs(t, fails(), new(*card.GoneError))

		there.Store(true)
		start := time.Now()
		for range 1000 {
			assert.True(t, card.IsBadPlace(fails()))
		}
		assert.Less(t, time.Since(start), maxWaits*leaveTime+time.Second,
			"a disk with many bad places is not waited for at each")
	})
}

// TestErrorsOfFilesAreThoseOfACard: files that are taken away, cut off, or held by another run.
func TestErrorsOfFilesAreThoseOfACard(t *testing.T) {
	dir := t.TempDir()
	s := NewSet(dir, 1<<20, nil)
	d := card.Named(s, dir)
	buf := make([]byte, 8192)
	_, err := d.ReadAt(buf, 0)
	assert.ErrorAs(t, err, new(*card.GoneError), "no file was ever there")
	_, err = d.WriteAt(buf, 0)
	require.NoError(t, err)
	assert.EqualValues(t, 8192, s.Filled())
	_, err = d.ReadAt(buf, 4096)
	assert.True(t, card.IsBadPlace(err), "behind what was written: %v", err)
	_, err = d.WriteAt(buf, 1<<20)
	assert.ErrorIs(t, err, fault.Full)
	require.NoError(t, errors.Join(d.Flush(), d.Forget(), d.Close()))

	_, err = NewSet(dir, 1<<20, nil).WriteAt(buf, 0)
	assert.ErrorIs(t, err, fs.ErrExist, "what is there is never written over")
	for i := range 3 {
		n, ours := Index(Name(i))
		assert.True(t, ours)
		assert.Equal(t, i, n)
	}
	for _, name := range []string{
		"space-1.bin", "space-00000.bin", "space-00001.bin.old", "about.json", "../space-00001.bin",
	} {
		_, ours := Index(name)
		assert.False(t, ours, name)
	}
	require.NoError(t, os.Remove(filepath.Join(dir, Name(0))))
}
