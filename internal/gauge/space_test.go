package gauge

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
)

// TestDiskThatLeavesSlowly: what fails before the kernel has taken a disk away that was pulled out is no bad place.
func TestDiskThatLeavesSlowly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		device := filepath.Join(t.TempDir(), "8:1")
		require.NoError(t, os.WriteFile(device, nil, 0o644))
		f := &fileSet{name: "/media/wren/TIDES", device: device}
		fails := func() error { return f.named("read", 4096, syscall.EIO) }
		for range maxWaits / 2 {
			assert.True(t, failedThere(fails()), "the disk is still there after a while: a bad place")
		}
		time.AfterFunc(leaveTime/2, func() { assert.NoError(t, os.Remove(device)) })
		assert.ErrorAs(t, fails(), new(*card.GoneError))

		require.NoError(t, os.WriteFile(device, nil, 0o644))
		start := time.Now()
		for range 1000 {
			assert.True(t, failedThere(fails()))
		}
		assert.Less(t, time.Since(start), maxWaits*leaveTime+time.Second, "a disk with many bad places is not waited for at each")
	})
}

// TestErrorsOfFilesAreThoseOfACard: what full means, also by the user's quota or the largest file, and what says that the card is gone.
func TestErrorsOfFilesAreThoseOfACard(t *testing.T) {
	f := &fileSet{name: "/media/wren/TIDES"}
	for _, e := range []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EFBIG} {
		err := f.named("write", 0, &os.PathError{Op: "write", Path: "space-00001.bin", Err: e})
		assert.ErrorIs(t, err, errFull)
		assert.ErrorIs(t, err, e)
	}
	for _, e := range []error{syscall.ENODEV, syscall.ENXIO, fs.ErrNotExist} {
		assert.ErrorAs(t, f.named("read", 0, e), new(*card.GoneError))
	}
	assert.NoError(t, f.named("read", 0, nil))
	err := f.named("write", 8192, syscall.EROFS)
	var io *card.IOError
	require.ErrorAs(t, err, &io)
	assert.Equal(t, int64(8192), io.Offset)
	assert.False(t, failedThere(err), "all places of a file system that is read-only by now fail")
}
