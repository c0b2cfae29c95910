package systems

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
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
}

// aboutVersion is that of About.
const aboutVersion = 1

// maxAbout bounds it, bytes.
const maxAbout = 1 << 20

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

// aboutFile is one of the two files of a list, in a folder of its own. The other one, the list as it came, is named by
// its digest, so that another edition takes its place at once, when what is known of it does.
const aboutFile = "about.json"

func listFile(sum string) string { return "list-" + sum[:min(16, len(sum))] }

// Folder is the name of the folder for a list with a name.
func Folder(name string) string {
	sum := sha256.Sum256([]byte(plain(name)))
	return strings.Trim(state.PlainName(strings.ToLower(name)), ".") + "-" + hex.EncodeToString(sum[:4])
}

// Keep keeps a list.
func Keep(place state.Place, k *Kept) error {
	place.Folder = filepath.Join(place.Folder, Folder(k.Name))
	sum := sha256.Sum256(k.Text)
	k.Version, k.SHA256 = aboutVersion, hex.EncodeToString(sum[:])
	text, err := json.MarshalIndent(k.About, "", "  ")
	if err != nil {
		return err
	}
	if err := place.Write(listFile(k.SHA256), k.Text); err != nil {
		return err
	}
	if err := place.Write(aboutFile, append(text, '\n')); err != nil {
		return err
	}
	root, err := place.Open()
	if err != nil {
		return err
	}
	defer root.Close()
	entries, err := fs.ReadDir(root.FS(), ".")
	for _, e := range entries { // other editions
		if strings.HasPrefix(e.Name(), "list-") && e.Name() != listFile(k.SHA256) {
			err = errors.Join(err, root.Remove(e.Name()))
		}
	}
	return err
}

// ErrDamaged says that a list that is kept is not as it was.
var ErrDamaged = errors.New("is damaged: add it again")

var errNone = errors.New("nothing is known of a list")

// All reads the lists that are kept. A folder that isn't there has none. A list that can't be read is an error: one
// that silently isn't used any more would be worse. Where nothing is known of one, it was not kept to the end, or not
// removed to the end.
func All(folder string) (all []*Kept, err error) {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		k, err := load(filepath.Join(folder, e.Name()))
		if errors.Is(err, errNone) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("the list in %s %w", filepath.Join(folder, e.Name()), err)
		}
		all = append(all, k)
	}
	return all, nil
}

func load(folder string) (*Kept, error) {
	text, err := state.ReadFile(filepath.Join(folder, aboutFile), maxAbout)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errNone
	}
	if err != nil {
		return nil, err
	}
	k := &Kept{}
	if json.Unmarshal(text, &k.About) != nil || k.About.Version != aboutVersion {
		return nil, ErrDamaged
	}
	if k.Text, err = state.ReadFile(filepath.Join(folder, listFile(k.SHA256)), MaxList); err != nil {
		return nil, err
	}
	if sum := sha256.Sum256(k.Text); hex.EncodeToString(sum[:]) != k.SHA256 {
		return nil, ErrDamaged
	}
	k.List, err = Read(k.Text)
	return k, err
}

// Remove removes a list.
func Remove(folder string, k *Kept) error {
	folder = filepath.Join(folder, Folder(k.Name))
	if err := os.Remove(filepath.Join(folder, aboutFile)); err != nil {
		return err
	}
	return os.RemoveAll(folder)
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
