package state

import (
	"os"
	"path/filepath"
	"testing"

	"zipstamp/internal/testbed"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFoldersAreMadeBelowHomeOnly(t *testing.T) {
	p := Place{Home: t.TempDir(), Folder: "a/b/c"}
	for range 2 { // the second time they are there
		root, err := p.Open()
		require.NoError(t, err)
		require.NoError(t, root.WriteFile("x", []byte("ebb"), 0o600))
		require.NoError(t, Sync(root))
		require.NoError(t, root.Close())
	}
	assert.FileExists(t, filepath.Join(p.Path(), "x"))

	outside := t.TempDir()
	p = Place{Home: t.TempDir(), Folder: "link/below"}
	if testbed.Linked(t, outside, filepath.Join(p.Home, "link")) {
		_, err := p.Open()
		require.Error(t, err)
	}
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left)

	p = Place{Home: t.TempDir(), Folder: "file/below"}
	require.NoError(t, os.WriteFile(filepath.Join(p.Home, "file"), nil, 0o600))
	_, err = p.Open()
	require.Error(t, err)
	_, err = Place{Home: filepath.Join(p.Home, "none"), Folder: "."}.Open()
	require.ErrorIs(t, err, os.ErrNotExist)
	assert.Equal(t, "my_card_1.-x", PlainName("my card/1.-x"))
}
