package state

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// TestRightsOfTheOwner are all that there are within As, and the program's own are as before afterwards.
func TestRightsOfTheOwner(t *testing.T) {
	testbed.NeedRoot(t)
	for _, id := range []int{12345, 1<<16 + 7} { // the latter has more than 16 bits
		rightsOf(t, Owner{id, id})
	}
}

func rightsOf(t *testing.T, o Owner) {
	dir := t.TempDir()
	for p := dir; p != "/" && p != os.TempDir(); p = filepath.Dir(p) {
		require.NoError(t, os.Chmod(p, 0o755))
	}
	secret, home := filepath.Join(dir, "secret"), filepath.Join(dir, "home")
	require.NoError(t, os.WriteFile(secret, []byte("tide"), 0o640)) // root's group may read it
	require.NoError(t, os.Mkdir(home, 0o755))
	require.NoError(t, os.Chown(home, o.UID, o.GID))
	require.NoError(t, os.Symlink(secret, filepath.Join(home, "config")))
	require.NoError(t, As(o, func() error {
		_, err := os.ReadFile(filepath.Join(home, "config"))
		assert.ErrorIs(t, err, fs.ErrPermission)
		assert.ErrorIs(t, os.WriteFile(filepath.Join(dir, "new"), nil, 0o600), fs.ErrPermission)
		assert.ErrorIs(t, os.Remove(secret), fs.ErrPermission)
		return os.WriteFile(filepath.Join(home, "mine"), nil, 0o600)
	}))
	_, err := os.ReadFile(secret)
	require.NoError(t, err)
	f, err := os.Open(filepath.Join(home, "mine"))
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, o.Take(f))
	require.NoError(t, As(Owner{}, func() error { return os.Remove(secret) }))
}
