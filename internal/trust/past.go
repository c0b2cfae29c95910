package trust

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"zipstamp/internal/state"
)

// Past is what is remembered of a good signature of what an address had.
type Past struct {
	Version     int       `json:"zipstamp_signed"`
	URL         string    `json:"url"` // as it may be shown
	Owner       string    `json:"owner"`
	Fingerprint string    `json:"fingerprint"`
	Made        time.Time `json:"made,omitzero"` // the signature, as it says itself

	Of    string `json:"-"` // path of the file that has come from the address
	Image bool   `json:"-"` // that is the image, for which what is signed may also lie beside it
}

const (
	pastVersion = 1
	maxPast     = 64 << 10 // bytes of the file
)

// Recall reads what is remembered of an address, by its key; nil if nothing is.
func Recall(folder, key string) (*Past, error) {
	path := filepath.Join(folder, key+".json")
	text, err := state.ReadFile(path, maxPast)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("what is remembered of signatures can't be read: %w", err)
	}
	p := &Past{}
	if json.Unmarshal(text, p) != nil || p.Version != pastVersion {
		err = fmt.Errorf("what is remembered of signatures is damaged: remove %s", path)
	}
	return p, err
}

// Remember keeps that a signature was good, unless a later one by its key is remembered.
func Remember(place state.Place, key string, p Past) error {
	before, err := Recall(place.Path(), key)
	if err != nil || before != nil && before.Fingerprint == p.Fingerprint && !p.Made.After(before.Made) {
		return err
	}
	p.Version = pastVersion
	text, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	return place.Write(key+".json", append(text, '\n'))
}
