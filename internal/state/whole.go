package state

import (
	"errors"
	"io/fs"
	"os"
	"runtime"
	"time"

	"zipstamp/internal/card/lock"
)

// Tries to write a file that another run is just writing, and how long apart.
const (
	writeTries = 300
	writePause = 50 * time.Millisecond
)

// Write puts a file of the owner's into the folder, for the owner's eyes only where it isn't shared: it is there whole,
// or as it was before, also after a power cut. Of several runs that write it, one comes after the other.
func (p Place) Write(name string, text []byte) error {
	root, err := p.Open()
	if err != nil {
		return err
	}
	defer root.Close()
	temp := "." + name + ".part"
	mode := fs.FileMode(0o600)
	if p.Shared {
		mode = 0o644
	}
	for try := 1; ; try++ {
		w, err := begin(root, temp, p.Owner, mode)
		switch {
		case err == nil:
			if err = lock.Own(root, temp, w.File); err == nil {
				return w.Keep(name, text)
			}
			w.Close()
		case errors.Is(err, fs.ErrExist):
			err = removeLeft(root, temp)
		}
		if err != nil && (!lock.Lost(err) || try == writeTries) {
			return err
		}
		if err != nil {
			time.Sleep(writePause)
		}
	}
}

// removeLeft removes what a run left that was killed while it wrote. The error is of the kind that lock.Lost tells if a
// run is writing it.
func removeLeft(root *os.Root, temp string) error {
	f, err := root.OpenFile(temp, os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && lock.Young(info) {
		err = lock.ErrHeld
	}
	if err == nil {
		err = lock.Own(root, temp, f)
	}
	if err != nil {
		f.Close()
		return err
	}
	return lock.Remove(f, func() error { return root.Remove(temp) })
}

// Whole is a file that is being made under another name, to be there whole or not at all.
type Whole struct {
	*os.File
	root *os.Root
	temp string
}

// Begin makes the file temp in an open folder, for its owner's eyes only. It must not be there: then the error is
// fs.ErrExist.
func Begin(root *os.Root, temp string, owner Owner) (*Whole, error) {
	return begin(root, temp, owner, 0o600)
}

func begin(root *os.Root, temp string, owner Owner, mode fs.FileMode) (*Whole, error) {
	f, err := root.OpenFile(temp, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return nil, err
	}
	w := &Whole{f, root, temp}
	if err := owner.Take(f); err != nil {
		w.Discard()
		return nil, err
	}
	return w, nil
}

// Reserve takes room on the disk, so that a disk that is full is found now. What is written later stands in its place.
func (w *Whole) Reserve(size int) error {
	if _, err := w.WriteAt(make([]byte, size), 0); err != nil {
		return err
	}
	return w.Sync()
}

// Discard gives the file up.
func (w *Whole) Discard() {
	w.Close()
	_ = w.root.Remove(w.temp) // nothing is lost if it stays
}

// Keep fills the file with a text and gives it its name, in place of what has that name. After an error all is as it
// was, and the file is given up.
func (w *Whole) Keep(name string, text []byte) error {
	err := w.fill(text)
	if runtime.GOOS == "windows" { // what is open can't be renamed there
		err = errors.Join(err, w.Close())
	} else { // it is closed last, so that its lock is held until it has its name
		defer w.Close()
	}
	if err == nil {
		err = lock.Patiently(func() error { return w.root.Rename(w.temp, name) })
	}
	if err != nil {
		_ = w.root.Remove(w.temp) // nothing is lost if it stays
		return err
	}
	return Sync(w.root)
}

func (w *Whole) fill(text []byte) error {
	if _, err := w.WriteAt(text, 0); err != nil {
		return err
	}
	if err := w.Truncate(int64(len(text))); err != nil {
		return err
	}
	return w.Sync()
}
