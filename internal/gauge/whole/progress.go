package whole

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/state"
)

// progressVersion is the version of the file in which the progress of a test is kept.
const progressVersion = 1

// maxProgress bounds such a file, bytes.
const maxProgress = 4 << 20

// kept is that file.
type kept struct {
	Version  int         `json:"gauge_progress"`
	Card     card.Record `json:"card"`
	Progress Progress    `json:"progress"`
}

const progressSuffix = ".progress.json"

// progressName is of the test and not of the card, whose name may be another one when the test is carried on.
func progressName(n mark.Nonce) string { return n.String() + progressSuffix }

// Keep keeps how far the test of a card has come: it is there whole, or as it was before.
func Keep(folder state.Place, c card.Record, p Progress) error {
	text, err := json.Marshal(kept{progressVersion, c, p})
	if err != nil {
		return err
	}
	return folder.Write(progressName(p.Nonce), text)
}

// Drop takes away what is kept of a test, which has ended or can't be carried on; that there is nothing is fine.
func Drop(folder state.Place, n mark.Nonce) error {
	err := os.Remove(filepath.Join(folder.Path(), progressName(n)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Kept is what is kept of a test.
type Kept struct {
	Progress
	Same bool      // it is of this very card; else it may be of another one that says the same of itself
	When time.Time // it was kept
}

// Find gives what is kept of tests of cards that may be this one, and says which files can't be used.
func Find(folder string, c card.Record) (found []Kept, unusable []error) {
	entries, err := os.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, []error{err}
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), progressSuffix) || strings.HasPrefix(e.Name(), ".") || !e.Type().IsRegular() {
			continue
		}
		path := filepath.Join(folder, e.Name())
		text, err := state.ReadFile(path, maxProgress)
		var k kept
		if err == nil {
			k, err = readProgress(text)
		}
		if err == nil && e.Name() != progressName(k.Progress.Nonce) {
			err = errors.New("not under the name of its test")
		}
		var info fs.FileInfo
		if err == nil {
			info, err = e.Info()
		}
		if err != nil {
			unusable = append(unusable, fmt.Errorf("%s: %w", path, err))
			continue
		}
		if k.Card.Like(c) != card.Different {
			found = append(found, Kept{k.Progress, k.Card.Like(c) == card.Same, info.ModTime()})
		}
	}
	return found, unusable
}

// readProgress reads such a file.
func readProgress(text []byte) (k kept, err error) {
	switch {
	case len(text) > maxProgress:
		return k, errors.New("too long for the progress of a test")
	case json.Unmarshal(text, &k) != nil:
		return k, errors.New("damaged")
	case k.Version != progressVersion:
		return k, errors.New("of another version of zipstamp")
	}
	return k, k.Progress.valid(k.Card.Size)
}
