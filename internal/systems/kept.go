package systems

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zipstamp/internal/fetch"
	"zipstamp/internal/state"
	"zipstamp/internal/trust"
)

// About is what is known of a list that is kept, besides what is in it.
type About struct {
	Version int    `json:"zipstamp_list"`
	From    string `json:"from"`            // its URL, as it was given, or the path of a file
	Host    string `json:"host,omitempty"`  // empty for a file
	Plain   bool   `json:"plain,omitempty"` // it may be asked for by http
	Key     string `json:"key,omitempty"`   // the public key that it must be signed with; empty: it is not signed
	Owner   string `json:"owner,omitempty"` // of the key, as the key says
	Finger  string `json:"fingerprint,omitempty"`
	fetch.Validators
	SHA256 string    `json:"sha256"` // of the list
	Added  time.Time `json:"added"`
	Asked  time.Time `json:"asked"` // when it was last the current one
	// names of systems in it that another list had first, signed, as they are compared
	Late []string `json:"late,omitempty"`
}

// aboutVersion is that of About.
const aboutVersion = 2

// maxAbout bounds it, bytes: with a list's names.
const maxAbout = MaxList

// Kept is a list that is kept.
type Kept struct {
	About
	List
	Text []byte
}

// Signed tells whether the list is signed by a key that was named or kept.
func (k *Kept) Signed() bool { return k.Key != "" }

// Source is what messages call the list.
func (k *Kept) Source() string { return "the list " + k.Name }

// Signature is that of the list by its key; nil if it isn't signed.
func (k *Kept) Signature() *trust.Signature {
	keys, err := trust.ReadKeys([]byte(k.Key), "")
	if k.Key == "" || err != nil {
		return nil
	}
	key := keys[0]
	key.Kept = true
	return &trust.Signature{
		Of: k.Source(), File: "its signature", Format: key.Format, KeyID: key.ID, Status: trust.Good, Key: &key,
	}
}

// listEnding is that of the file of a list. Its first line is what is known of the list (About, as JSON), and the rest
// the list as it came: another edition takes its place in one step, together with what is known of it.
const listEnding = ".list"

// NameOfFile is the name of the file of a list, without its ending. Lists whose names are alike, but for blanks,
// hyphens and case, have one.
func NameOfFile(name string) string {
	sum := sha256.Sum256([]byte(plain(name)))
	return strings.Trim(state.PlainName(plain(name)), ".") + "-" + hex.EncodeToString(sum[:4])
}

// Keep keeps a list, in place of one of its name.
func Keep(place state.Place, k *Kept) error {
	sum := sha256.Sum256(k.Text)
	k.Version, k.SHA256 = aboutVersion, hex.EncodeToString(sum[:])
	text, err := json.Marshal(k.About)
	if err != nil {
		return err
	}
	name := NameOfFile(k.Name)
	if err := place.Write(name+listEnding, slices.Concat(text, []byte("\n"), k.Text)); err != nil {
		return err
	}
	return os.RemoveAll(filepath.Join(place.Path(), name)) // a folder of an earlier version
}

// ErrDamaged says that a list that is kept is not as it was.
var ErrDamaged = errors.New("is damaged: add it again")

// Damaged is a list that is kept and can't be used.
type Damaged struct {
	Name string // of its file, without its ending
	Err  error
}

// All reads the lists that are kept. A folder that isn't there has none. A list that can't be used is to be told, since
// a person relies on it; the others count all the same.
func All(folder string) (all []*Kept, damaged []Damaged, err error) {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	for _, e := range entries {
		name, isFile := strings.CutSuffix(e.Name(), listEnding)
		if e.IsDir() == isFile { // what stands beside them, such as a file that is just being written
			continue
		}
		k, err := load(filepath.Join(folder, e.Name()))
		switch {
		case errors.Is(err, fs.ErrNotExist): // removed meanwhile
		case err != nil:
			damaged = append(damaged, Damaged{name, err})
		default:
			all = append(all, k)
		}
	}
	return all, damaged, nil
}

func load(path string) (*Kept, error) {
	if info, err := os.Stat(path); err != nil || info.IsDir() { // a folder is of an earlier version
		return nil, cmp.Or(err, ErrDamaged)
	}
	text, err := state.ReadFile(path, maxAbout+MaxList)
	if err != nil {
		return nil, err
	}
	k := &Kept{}
	about, text, _ := bytes.Cut(text, []byte("\n"))
	if json.Unmarshal(about, &k.About) != nil || k.About.Version != aboutVersion {
		return nil, ErrDamaged
	}
	if sum := sha256.Sum256(text); hex.EncodeToString(sum[:]) != k.SHA256 {
		return nil, ErrDamaged
	}
	k.Text = text
	k.List, err = Read(k.Text)
	return k, err
}

// Remove removes the file of a list, by its name without its ending.
func Remove(folder, name string) error {
	return errors.Join(os.RemoveAll(filepath.Join(folder, name+listEnding)), os.RemoveAll(filepath.Join(folder, name)))
}

// Errors of a list that was asked for again.
var (
	ErrOlder   = errors.New("goes back to an older edition than one that was here")
	ErrSame    = errors.New("has changed, and still has the number of the edition before")
	ErrRenamed = errors.New("has another name than before")
)

// Follows tells whether a list may take the place of one that is kept; the error says why not.
func (k *Kept) Follows(before *Kept) error {
	switch {
	case plain(k.Name) != plain(before.Name):
		return ErrRenamed
	case k.Edition < before.Edition:
		return ErrOlder
	case k.Edition == before.Edition && !bytes.Equal(k.Text, before.Text):
		return ErrSame
	}
	return nil
}

// Address is that of a file of the list. Relative ones are relative to the list's own.
func (k *Kept) Address(text string) (fetch.Address, error) {
	if fetch.IsURL(text) {
		return fetch.ParseAddress(text)
	}
	if k.Host == "" {
		return fetch.Address{}, &fetch.Error{Why: fetch.NotAnAddress, URL: text, Err: fetch.ErrNoURL}
	}
	base, err := fetch.ParseAddress(k.From)
	if err != nil {
		return base, err
	}
	return base.Resolve(text)
}
