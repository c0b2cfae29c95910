package trust

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zipstamp/internal/state"
)

// keptEnding is that of the files in a folder of kept keys; each holds one.
const keptEnding = ".key"

// Kept reads the keys in a folder. A folder that isn't there has none. A file that can't be read as a key is an error:
// a key that silently isn't used any more would be worse.
func Kept(folder string) (Ring, error) {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var ring Ring
	for _, e := range entries {
		if e.IsDir() || !strings.HasSuffix(e.Name(), keptEnding) {
			continue
		}
		keys, err := ReadKeyFile(filepath.Join(folder, e.Name()))
		if err != nil {
			return nil, err
		}
		for i := range keys {
			keys[i].Kept = true
		}
		ring = append(ring, keys...)
	}
	return ring, nil
}

// Keep puts a key, of which text is the file, into a folder, which it makes if need be. A key that was there before is
// replaced, as after its owner has renewed it.
func Keep(folder state.Place, k Key, text []byte) (path string, err error) {
	path = keptPath(folder.Path(), k)
	return path, folder.Write(filepath.Base(path), text)
}

func keptPath(folder string, k Key) string {
	return filepath.Join(folder, strings.ToLower(string(k.Format)+"-"+k.ID)+keptEnding)
}

// Remove takes kept keys out of their folder.
func Remove(keys []Key) error {
	var paths []string
	for _, k := range keys {
		paths = append(paths, k.Source)
	}
	slices.Sort(paths)
	for _, path := range slices.Compact(paths) {
		if err := os.Remove(path); err != nil {
			return err
		}
	}
	return nil
}
