package shelf

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zipstamp/internal/card/lock"
)

// Entry is a download on the shelf, for who looks at it.
type Entry struct {
	About
	Path   string // of the whole file; empty if there is none, or it isn't as long as it was
	Broken string // why what is there is of no use; empty if it is
	Bytes  int64  // that it takes on the disk, as far as files say
	Coming int64  // bytes of a part
	Busy   bool   // a run downloads it or uses it
}

// Used is when it was last of use.
func (e Entry) Used() time.Time {
	if e.Whole == nil {
		return e.Begun
	}
	if e.Whole.Asked.After(e.Whole.Fetched) {
		return e.Whole.Asked
	}
	return e.Whole.Fetched
}

// isEmpty tells whether nothing was downloaded: nobody answered.
func (e Entry) isEmpty() bool { return e.Whole == nil && e.Part == nil && e.Bytes == 0 }

// Sweep removes the folders of downloads of which nothing came.
func (s Shelf) Sweep() error {
	names, err := s.names()
	if err != nil {
		return err
	}
	for _, name := range names {
		e, err := s.look(name)
		if err == nil && e.isEmpty() {
			err = s.Remove(e)
		}
		if err != nil && !errors.Is(err, ErrBusy) {
			return err
		}
	}
	return nil
}

// names are the folders of all downloads.
func (s Shelf) names() (names []string, err error) {
	err = s.As(func() error {
		entries, err := os.ReadDir(s.Place.Path())
		for _, e := range entries {
			if e.IsDir() {
				names = append(names, e.Name())
			}
		}
		return gone(err)
	})
	return names, err
}

// List lists the downloads, the latest first. A shelf that isn't there has none.
func (s Shelf) List() (all []Entry, err error) {
	names, err := s.names()
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		e, err := s.look(name)
		if err != nil {
			return nil, err
		}
		if !e.isEmpty() {
			all = append(all, e)
		}
	}
	slices.SortStableFunc(all, func(a, b Entry) int { return b.Used().Compare(a.Used()) })
	return all, nil
}

func (s Shelf) look(name string) (e Entry, err error) {
	if e.About, err = s.read(name); err != nil {
		return e, err
	}
	folder := filepath.Join(s.Place.Path(), name)
	err = s.As(func() error {
		e.Busy = isHeld(filepath.Join(folder, "lock"))
		return filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return gone(err)
			}
			info, err := d.Info()
			if err != nil || !info.Mode().IsRegular() {
				return nil
			}
			e.Bytes += info.Size()
			switch {
			case path == filepath.Join(folder, "part"):
				e.Coming = info.Size()
			case path == s.path(e.About) && info.Size() == e.Whole.Size:
				e.Path = path
			case strings.HasSuffix(path, ".used"):
				e.Busy = e.Busy || isHeld(path)
			}
			return nil
		})
	})
	switch {
	case e.URL == "":
		e.Broken = "nothing is known of it"
	case e.Whole != nil && e.Path == "":
		e.Broken = "the file is not there, or not as long as it was"
	case e.Whole != nil && e.Whole.Verdict == Differs:
		e.Broken = "it is not what was published"
	case e.Whole != nil && !e.Whole.Usable():
		e.Broken = "nothing tells whether all of it came"
	}
	return e, err
}

// isHeld tells whether a run holds the lock of a file.
func isHeld(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(lock.Take(f), lock.ErrHeld)
}

// Remove removes a download. ErrBusy says that a run downloads it, or uses it.
func (s Shelf) Remove(e Entry) error {
	return s.As(func() error {
		root, err := s.Place.Open()
		if err != nil {
			return err
		}
		defer root.Close()
		f, err := root.OpenFile(filepath.Join(e.Folder, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
		if err != nil {
			return gone(err)
		}
		if lock.Take(f) != nil || e.Whole != nil &&
			isHeld(filepath.Join(s.Place.Path(), e.Folder, fmt.Sprint(e.Whole.Number,
				".used"))) {
			f.Close()
			return ErrBusy
		}
		return lock.Remove(f, func() error { return root.RemoveAll(e.Folder) })
	})
}
