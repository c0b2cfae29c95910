package receipt

import (
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/state"
	"zipstamp/internal/testbed"
)

// TestReceiptOfAnotherUser is what happens under sudo: all that is made belongs to the caller, and a link in
// the caller's folders leads nowhere else.
func TestReceiptOfAnotherUser(t *testing.T) {
	testbed.NeedRoot(t)
	owner := state.Owner{UID: 4321, GID: 4322}
	home := t.TempDir()
	d, err := InFolder(state.Place{Home: home, Folder: ".local/state/zipstamp/receipts", Owner: owner}, "stamp", "x",
		noon)
	require.NoError(t, err)
	require.NoError(t, d.Keep(Document{}))
	for _, made := range []string{
		".local", ".local/state", ".local/state/zipstamp/receipts",
		".local/state/zipstamp/receipts/20260501-120000-stamp-x.json",
	} {
		info, err := os.Lstat(filepath.Join(home, made))
		require.NoError(t, err)
		st := info.Sys().(*syscall.Stat_t)
		assert.Equal(t, owner, state.Owner{UID: int(st.Uid), GID: int(st.Gid)}, made)
	}
	outside := t.TempDir()
	home = t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(home, ".local")))
	_, err = InFolder(state.Place{Home: home, Folder: ".local/state", Owner: owner}, "stamp", "x", noon)
	require.Error(t, err)
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestFullDiskIsFoundBeforehand(t *testing.T) {
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "mount", "umount")
	full := t.TempDir()
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", full).CombinedOutput()
	require.NoError(t, err, "%s", out)
	defer func() {
		out, err := exec.Command("umount", full).CombinedOutput()
		assert.NoError(t, err, "%s", out)
	}()
	_, err = InFolder(state.Place{Home: full, Folder: "receipts"}, "stamp", "x", noon)
	require.ErrorIs(t, err, syscall.ENOSPC)
	left, err := os.ReadDir(filepath.Join(full, "receipts"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
