package state

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

// TestFilesAreThereWholeOrAsBefore covers what a run that was killed left, a disk that is full, and a name that can't
// be given.
func TestFilesAreThereWholeOrAsBefore(t *testing.T) {
	p := Place{Home: t.TempDir(), Folder: "tests"}
	path := filepath.Join(p.Path(), "a.json")
	read := func() string {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		return string(text)
	}
	require.NoError(t, p.Write("a.json", []byte("a long text of spring tides")))
	require.NoError(t, os.WriteFile(filepath.Join(p.Path(), ".a.json.part"), []byte("torn"), 0o600))
	require.NoError(t, p.Write("a.json", []byte("neap")), "what a run that was killed left is in nobody's way")
	assert.Equal(t, "neap", read())

	root, err := p.Open()
	require.NoError(t, err)
	defer root.Close()
	w, err := Begin(root, "part", Owner{})
	require.NoError(t, err)
	_, err = Begin(root, "part", Owner{})
	require.ErrorIs(t, err, os.ErrExist)
	require.NoError(t, w.Reserve(4096))
	require.NoError(t, w.Close()) // so that nothing can be written any more
	require.Error(t, w.Keep("a.json", []byte("ebb")))
	assert.Equal(t, "neap", read())

	require.NoError(t, root.Mkdir("folder", 0o700))
	require.Error(t, p.Write("folder", []byte("ebb")))

	entries, err := os.ReadDir(p.Path())
	require.NoError(t, err)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	assert.Equal(t, []string{"a.json", "folder"}, names, "nothing is left over")
	info, err := os.Stat(path)
	require.NoError(t, err)
	if runtime.GOOS != "windows" { // where the folder is the user's alone
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	}
}

// TestWritersComeOneAfterAnother has many write one file: it is always one of their texts, and nobody fails.
func TestWritersComeOneAfterAnother(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("what somebody reads can't be replaced there")
	}
	place := Place{Home: t.TempDir(), Folder: "lists"}
	var group errgroup.Group
	for i := range 8 {
		group.Go(func() error {
			for range 25 {
				if err := place.Write("ebb", bytes.Repeat([]byte{'a' + byte(i)}, 4096*(i+1))); err != nil {
					return err
				}
				text, err := os.ReadFile(filepath.Join(place.Path(), "ebb"))
				if err != nil || len(text) != 4096*int(text[0]-'a'+1) || bytes.Count(text, text[:1]) != len(text) {
					return fmt.Errorf("it isn't whole: %d bytes, %w", len(text), err)
				}
			}
			return nil
		})
	}
	require.NoError(t, group.Wait())
	left, err := os.ReadDir(place.Path())
	require.NoError(t, err)
	assert.Len(t, left, 1)
}
