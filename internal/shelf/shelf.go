// Package shelf keeps downloads, each in a folder of its own: the file that is whole, with the digests and signatures
// that were published beside it, and the part of one that is on its way.
//
// The folder of a download is named after its address (fetch.Address.Key), so that what may be secret in that is not
// kept. In it, about.json is About; "part" and "sums" are a download on its way and the digests of its pieces
// (fetch.Part); and a folder with a number has the whole file. A newer file comes into a folder with a higher number,
// so that the one before it is there until then.
package shelf

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"time"

	"zipstamp/internal/card/file"
	"zipstamp/internal/card/lock"
	"zipstamp/internal/digest"
	"zipstamp/internal/fetch"
	"zipstamp/internal/state"
)

// Shelf is a folder with downloads.
type Shelf struct {
	Place  state.Place
	Prefix string                   // of the names of the folders in it
	As     func(func() error) error // does what concerns names in it, with the rights of the person whose it is
}

// version is that of About.
const version = 1

// maxAbout bounds that file, bytes.
const maxAbout = 4 << 20

// About is what is known of a download.
type About struct {
	Version int    `json:"zipstamp_shelf"`
	URL     string `json:"url"` // without its user and query
	Host    string `json:"host"`
	Folder  string `json:"-"` // its name within the shelf

	Whole *Whole      `json:"whole,omitempty"`
	Part  *fetch.Kept `json:"part,omitempty"` // of a download on its way
	Old   *fetch.Kept `json:"old,omitempty"`  // of a part that was put aside for it
	Begun time.Time   `json:"begun,omitzero"` // it
}

// Whole is a file that is whole.
type Whole struct {
	Number int    `json:"number"` // of its folder
	Name   string `json:"name"`
	Size   int64  `json:"size"` // bytes
	SHA256 string `json:"sha256"`
	Secure bool   `json:"secure"` // it came by https all the way
	fetch.Validators
	Fetched time.Time `json:"fetched"`
	Asked   time.Time `json:"asked"` // when the host last said that it is the current one

	Beside  []Beside    `json:"beside,omitempty"`
	Digests []Published `json:"digests,omitempty"`
	Verdict Verdict     `json:"verdict,omitempty"`
	By      string      `json:"by,omitempty"` // the host that published it, or who signed it
	In      string      `json:"in,omitempty"` // what it was published in, where that has no host

	System  string `json:"system,omitempty"` // as which it was fetched
	Release string `json:"release,omitempty"`
	List    string `json:"list,omitempty"` // that offered it
}

// Beside is a small file that was fetched with it.
type Beside struct {
	Name   string `json:"name"`
	From   string `json:"from"` // URL, as it may be shown
	Secure bool   `json:"secure"`
}

// Published is a digest that was published for it elsewhere than in a file beside it.
type Published struct {
	Algorithm string `json:"algorithm"`
	Hex       string `json:"hex"`
	From      string `json:"from"` // where it stands, as it may be shown
}

// Digest is the digest as such.
func (p Published) Digest() (digest.Digest, error) { return digest.Parse(p.Algorithm + ":" + p.Hex) }

// Verdict is what a check of the file has found.
type Verdict string

// The verdicts.
const (
	AsPublished Verdict = "as published"
	Signed      Verdict = "signed"
	Differs     Verdict = "not as published"
	Nothing     Verdict = "nothing published"
	Incomplete  Verdict = "perhaps incomplete" // nothing tells whether it was cut short
)

// Usable tells whether it may be what somebody wanted.
func (w *Whole) Usable() bool { return w.Verdict != Differs && w.Verdict != Incomplete }

// ErrBusy says that another run downloads the same, and ErrRemoved that another run has removed the download's folder,
// so that it is to be opened anew.
var (
	ErrBusy    = errors.New("another run is downloading it")
	ErrRemoved = errors.New("another run has removed it")
)

// Item is a download on the shelf, open. Its lock is held by who downloads.
type Item struct {
	About
	shelf Shelf
	place state.Place
	root  *os.Root
	lock  *os.File
	data  *os.File
	sums  *os.File

	before []*os.File // of parts that were put aside
}

// Open opens the folder of a download, which is made if need be.
func (s Shelf) Open(a fetch.Address) (*Item, error) {
	i, err := s.open(s.Prefix + a.Key())
	if errors.Is(err, fs.ErrNotExist) { // another run has just removed it
		i, err = s.open(s.Prefix + a.Key())
	}
	if err == nil {
		i.URL, i.Host = a.Shown(), a.Host()
	}
	return i, err
}

// Same opens a file on the shelf that has a digest, wherever it came from, and locks it; nil if there is none that
// isn't just being worked on.
func (s Shelf) Same(sha256 string) (*Item, error) {
	all, err := s.List()
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.Path == "" || e.Broken != "" || e.Whole.SHA256 != sha256 {
			continue
		}
		i, err := s.open(e.Folder)
		if err != nil {
			return nil, err
		}
		if err = i.Lock(); err == nil && i.Has() && i.Whole.SHA256 == sha256 && i.Whole.Usable() {
			return i, nil
		}
		i.Close()
		if err != nil && !errors.Is(err, ErrBusy) && !errors.Is(err, ErrRemoved) {
			return nil, err
		}
	}
	return nil, nil
}

func (s Shelf) open(folder string) (*Item, error) {
	place := s.Place
	place.Folder = filepath.Join(place.Folder, folder)
	i := &Item{shelf: s, place: place}
	err := s.As(func() (err error) {
		if i.root, err = place.Open(); err != nil {
			return err
		}
		i.lock, err = i.create("lock")
		return err
	})
	if err == nil {
		i.About, err = s.read(folder)
	}
	if err != nil {
		i.Close()
		return nil, err
	}
	i.Folder = folder
	return i, nil
}

// create opens a file of the folder, and makes it if need be.
func (i *Item) create(name string) (*os.File, error) {
	f, err := i.root.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o600)
	if err == nil {
		err = i.place.Owner.Take(f)
	}
	return f, err
}

// read reads what is known of a download; what can't be read counts as nothing.
func (s Shelf) read(folder string) (a About, err error) {
	var text []byte
	err = s.As(func() (err error) {
		text, err = state.ReadFile(filepath.Join(s.Place.Path(), folder, "about.json"), maxAbout)
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return About{Folder: folder}, nil
	}
	if err != nil {
		return a, err
	}
	if json.Unmarshal(text, &a) != nil || a.Version != version || a.Whole != nil && !a.Whole.valid() {
		a = About{}
	}
	a.Folder = folder
	return a, nil
}

func (w *Whole) valid() bool {
	return w.Number > 0 && w.Name != "" && fetch.PlainFileName(w.Name) == w.Name && w.Size >= 0
}

// Path of the whole file.
func (i *Item) Path() string { return i.shelf.path(i.About) }

func (s Shelf) path(a About) string {
	if a.Whole == nil {
		return ""
	}
	return filepath.Join(s.Place.Path(), a.Folder, strconv.Itoa(a.Whole.Number), a.Whole.Name)
}

// Has tells whether the whole file is there, as long as it was.
func (i *Item) Has() bool {
	if i.Whole == nil {
		return false
	}
	has := false
	_ = i.shelf.As(func() error { // what can't be seen isn't there
		info, err := i.root.Stat(filepath.Join(strconv.Itoa(i.Whole.Number), i.Whole.Name))
		has = err == nil && info.Mode().IsRegular() && info.Size() == i.Whole.Size
		return nil
	})
	return has
}

// Lock takes the download for this run. ErrBusy says that another has it.
func (i *Item) Lock() error {
	err := lock.Take(i.lock)
	if errors.Is(err, lock.ErrHeld) {
		return ErrBusy
	}
	if err != nil {
		return err
	}
	if !i.isThere() {
		return ErrRemoved
	}
	again, err := i.shelf.read(i.Folder) // another run may have changed it
	if err == nil {
		i.Whole, i.Part, i.Old, i.Begun = again.Whole, again.Part, again.Old, again.Begun
	}
	return err
}

// isThere tells whether the lock is that of the folder which has the download's name now.
func (i *Item) isThere() bool {
	there := false
	_ = i.shelf.As(func() error { // what can't be seen isn't there
		own, err := i.lock.Stat()
		if err != nil {
			return err
		}
		now, err := os.Stat(filepath.Join(i.place.Path(), "lock"))
		there = err == nil && os.SameFile(own, now)
		return err
	})
	return there
}

// Coming is how many bytes another run has downloaded so far.
func (i *Item) Coming() (n int64) {
	_ = i.shelf.As(func() error {
		if info, err := i.root.Stat("part"); err == nil {
			n = info.Size()
		}
		return nil
	})
	return n
}

// Tries to write what is known, and to get the lock for that, and how long apart.
const (
	saveTries = 40
	savePause = 50 * time.Millisecond
)

// Save keeps what is known. The download must be locked.
func (i *Item) Save() error {
	i.Version = version
	text, err := json.MarshalIndent(i.About, "", "  ")
	if err != nil {
		return err
	}
	for try := 1; ; try++ {
		err := i.shelf.As(func() error { return i.place.Write("about.json", append(text, '\n')) })
		if err == nil || runtime.GOOS != "windows" || try == saveTries {
			return err
		}
		time.Sleep(savePause) // another run may just be reading it, and nothing that is open can be replaced there
	}
}

// Note keeps something about the whole file that was found out. If other runs work on the download for some time, or
// another file has come, it is not kept, and nothing else is lost.
func (i *Item) Note(change func(*Whole)) error {
	change(i.Whole)
	if i.lock != nil {
		return i.Save()
	}
	own := i.Whole
	err := i.shelf.As(func() (err error) {
		i.lock, err = i.create("lock")
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil // it was removed
	}
	if err != nil {
		return err
	}
	defer i.Unlock()
	for try := 1; ; try++ {
		err := i.Lock()
		if err == nil {
			break
		}
		if errors.Is(err, ErrRemoved) || errors.Is(err, ErrBusy) && try == saveTries {
			return nil
		}
		if !errors.Is(err, ErrBusy) {
			return err
		}
		time.Sleep(savePause)
	}
	if i.Whole == nil || i.Whole.Number != own.Number {
		i.Whole = own
		return nil
	}
	change(i.Whole)
	return i.Save()
}

// Begin takes up the part of a download. had is how many bytes of it are there.
func (i *Item) Begin(
	ctx context.Context, algorithms ...digest.Algorithm,
) (p *fetch.Part, had int64, err error) {
	if err := i.settle(""); err != nil {
		return nil, 0, err
	}
	if err := i.openPart(); err != nil {
		return nil, 0, err
	}
	if i.Part == nil { // nobody knows of what it is
		i.Begun = time.Now().UTC().Truncate(time.Second)
		if err := i.sums.Truncate(0); err != nil {
			return nil, 0, err
		}
	}
	return fetch.OpenPart(ctx, i.data, i.sums, algorithms...)
}

func (i *Item) openPart() error {
	return i.shelf.As(func() (err error) {
		if i.data, err = i.create("part"); err == nil {
			i.sums, err = i.create("sums")
		}
		return err
	})
}

// Aside puts the part that is there aside, and gives the files of a new one. It gives none where something is aside
// already, or where no file that is open can get another name.
func (i *Item) Aside(k fetch.Kept) (data, sums *os.File, err error) {
	if i.Old != nil {
		return nil, nil, nil
	}
	err = i.shelf.As(func() error {
		err := i.root.Rename("part", "part.old")
		if err == nil {
			if err = i.root.Rename("sums", "sums.old"); err != nil {
				err = errors.Join(err, i.root.Rename("part.old", "part"))
			}
		}
		return err
	})
	if err != nil {
		return nil, nil, nil
	}
	i.before = append(i.before, i.data, i.sums) // others may be reading them
	i.data, i.sums, i.Old, i.Part = nil, nil, &k, nil
	err = errors.Join(i.Save(), i.openPart())
	return i.data, i.sums, err
}

// settle keeps of what was put aside, and what came in its place, what is longer: that is the part then, or a file that
// is whole, at a place in the folder.
func (i *Item) settle(place string) error {
	if i.Old == nil {
		return nil
	}
	old := i.Old
	err := i.shelf.As(func() error {
		length := func(sums, of string) int64 { // the part itself may have room taken for all of it
			info, err := i.root.Stat(sums)
			if err == nil {
				return info.Size() / int64(len(digest.Block{})) * fetch.PieceSize
			}
			if info, err = i.root.Stat(of); err != nil {
				return 0
			}
			return info.Size()
		}
		if length("sums.old", "") <= length("sums", place) {
			return errors.Join(gone(i.root.Remove("part.old")), gone(i.root.Remove("sums.old")))
		}
		if err := errors.Join(i.root.Rename("part.old", "part"), i.root.Rename("sums.old", "sums")); err != nil {
			return err
		}
		i.Part = old
		return nil
	})
	i.Old = nil
	return errors.Join(err, i.Save())
}

// Room takes room for more bytes behind what is there. The error is a *fetch.Error if there is none.
func (i *Item) Room(more int64) error {
	info, err := i.data.Stat()
	if err != nil {
		return err
	}
	free, err := file.Free(i.place.Path())
	if err == nil && free < more && i.Old != nil {
		i.Old = nil
		err = errors.Join(i.Save(), i.shelf.As(func() error {
			return errors.Join(gone(i.root.Remove("part.old")), gone(i.root.Remove("sums.old")))
		}))
		if err == nil {
			free, err = file.Free(i.place.Path())
		}
	}
	if err == nil && free < more {
		return &fetch.Error{Why: fetch.NoRoom, URL: i.URL, Host: i.Host, Want: more, Got: free}
	}
	if err := state.Reserve(i.data, info.Size()+more); err != nil {
		return &fetch.Error{Why: fetch.NoRoom, URL: i.URL, Host: i.Host, Want: more, Got: free, Err: err}
	}
	return nil
}

// next is the number of the folder for a file that is on its way.
func (i *Item) next() int {
	if i.Whole == nil {
		return 1
	}
	return i.Whole.Number + 1
}

// Next is the path that a file on its way will have, and makes its folder, empty.
func (i *Item) Next(name string) (string, error) {
	folder := strconv.Itoa(i.next())
	err := i.shelf.As(func() error {
		if err := i.root.RemoveAll(folder); err != nil {
			return err
		}
		if err := i.root.Mkdir(folder, 0o700); err != nil {
			return err
		}
		if o := i.place.Owner; o != (state.Owner{}) {
			return i.root.Lchown(folder, o.UID, o.GID)
		}
		return nil
	})
	return filepath.Join(i.place.Path(), folder, name), err
}

// Put puts a small file beside the one that is on its way.
func (i *Item) Put(name string, text []byte) error {
	return i.shelf.As(func() error {
		f, err := i.create(filepath.Join(strconv.Itoa(i.next()), name))
		if err != nil {
			return err
		}
		_, err = f.Write(text)
		return errors.Join(err, f.Sync(), f.Close())
	})
}

// Renew puts a small file beside the whole one, in place of one of its name. It tells whether another text was there,
// or none.
func (i *Item) Renew(name string, text []byte) (other bool, err error) {
	place := i.place
	place.Folder = filepath.Join(place.Folder, strconv.Itoa(i.Whole.Number))
	err = i.shelf.As(func() error {
		before, err := state.ReadFile(filepath.Join(place.Path(), name), int64(len(text)))
		if other = err != nil || !bytes.Equal(before, text); !other {
			return nil
		}
		return place.Write(name, text)
	})
	return other, err
}

// Withdraw removes a small file beside the whole one.
func (i *Item) Withdraw(name string) error {
	return i.shelf.As(func() error {
		return gone(i.root.Remove(filepath.Join(strconv.Itoa(i.Whole.Number), name)))
	})
}

// Drop removes the part of a download.
func (i *Item) Drop() error {
	i.closePart()
	i.Part = nil
	return errors.Join(i.Save(), i.shelf.As(func() error {
		return errors.Join(gone(i.root.Remove("part")), gone(i.root.Remove("sums")))
	}))
}

func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Finish puts the file that is whole into its folder, and the one before it away. The part must have no readers any
// more.
func (i *Item) Finish(w Whole) error {
	w.Number = i.next()
	before := i.Whole
	i.closePart()
	i.Whole, i.Part, i.Begun = &w, nil, time.Time{}
	err := i.shelf.As(func() error {
		return i.root.Rename("part", filepath.Join(strconv.Itoa(w.Number), w.Name))
	})
	if err == nil {
		err = i.Save()
	}
	if err != nil {
		return err
	}
	err = i.shelf.As(func() error {
		if before != nil {
			i.putAway(before.Number)
		}
		return gone(i.root.Remove("sums"))
	})
	return errors.Join(err, i.settle(filepath.Join(strconv.Itoa(w.Number), w.Name)))
}

// putAway removes an older file, if no run uses it. One that stays is removed when the shelf is cleaned.
func (i *Item) putAway(number int) {
	folder := strconv.Itoa(number)
	f, err := i.root.OpenFile(folder+".used", os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return
	}
	if lock.Take(f) == nil {
		_ = i.root.RemoveAll(folder)
	}
	f.Close()
	_ = i.root.Remove(folder + ".used")
}

// Use keeps the whole file from being removed until done is called.
func (i *Item) Use() (done func(), err error) {
	var f *os.File
	err = i.shelf.As(func() (err error) {
		f, err = i.create(strconv.Itoa(i.Whole.Number) + ".used")
		return err
	})
	for try := 1; err == nil; try++ {
		err = lock.Share(f)
		if !errors.Is(err, lock.ErrHeld) || try == saveTries {
			break
		}
		err = nil // another run just looks whether it is used
		time.Sleep(savePause)
	}
	if err != nil {
		return func() {}, err
	}
	return func() { f.Close() }, nil
}

func (i *Item) closePart() {
	for _, f := range append(i.before, i.data, i.sums) {
		if f != nil {
			f.Close()
		}
	}
	i.data, i.sums, i.before = nil, nil, nil
}

// Leave gives up a part of which nothing is known, as where the file turned out to be here.
func (i *Item) Leave() {
	i.closePart()
	if i.Part == nil {
		_ = i.shelf.As(func() error { // nothing is lost if they stay
			return errors.Join(gone(i.root.Remove("part")), gone(i.root.Remove("sums")))
		})
	}
}

// Unlock lets other runs download the same.
func (i *Item) Unlock() {
	i.closePart()
	if i.lock != nil {
		i.lock.Close()
		i.lock = nil
	}
}

// Close lets the download go.
func (i *Item) Close() {
	i.Unlock()
	if i.root != nil {
		i.root.Close()
		i.root = nil
	}
}
