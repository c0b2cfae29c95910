package receipt

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zipstamp/internal/card/lock"
	"zipstamp/internal/document"
	"zipstamp/internal/state"
)

// reserve is the room that a draft takes on the disk, bytes. A receipt with all lists full is smaller.
const reserve = 384 << 10

// mostTries is how often a receipt may be begun that another run takes for a torn one at the same moment.
const mostTries = 100

// Draft is a receipt that will be written: its file is there, under another name, with room on the disk. So a
// folder that can't be written, or a disk that is full, is found before the work and not after it.
type Draft struct {
	file *state.Whole
	root *os.Root // the folder
	name string   // in it
	path string   // of the receipt to be, for messages
}

// InFolder starts a receipt of a job in a folder for many.
func InFolder(folder state.Place, job, cardName string, now time.Time) (*Draft, error) {
	root, err := folder.Open()
	if err != nil {
		return nil, err
	}
	removeTorn(root)
	base := fmt.Sprintf("%s-%s-%s", now.UTC().Format("20060102-150405"), state.PlainName(job),
		state.PlainName(cardName))
	lost := 0
	for i := 1; ; i++ {
		name := base + ".json"
		if i > 1 {
			name = fmt.Sprintf("%s-%d.json", base, i)
		}
		if _, err := root.Lstat(name); err == nil {
			continue // an earlier run's
		}
		d, err := start(root, name, "."+name+".part", filepath.Join(folder.Path(), name), folder.Owner)
		if lock.Lost(err) {
			lost++
		}
		if errors.Is(err, fs.ErrExist) || lock.Lost(err) && lost < mostTries {
			continue // another run has just taken it
		}
		if err != nil {
			root.Close()
			return nil, err
		}
		if _, err := root.Lstat(name); err == nil { // another run has kept its own meanwhile
			d.file.Discard()
			continue
		}
		return d, nil
	}
}

// removeTorn removes what runs that were killed left of their receipts. A run that goes on holds its own.
func removeTorn(root *os.Root) {
	folder, err := root.Open(".")
	if err != nil {
		return // nothing is lost if they stay
	}
	defer folder.Close()
	entries, _ := folder.ReadDir(maxHistory)
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") || !strings.HasSuffix(e.Name(), ".json.part") || !e.Type().IsRegular() {
			continue
		}
		if info, err := e.Info(); err != nil || lock.Young(info) {
			continue
		}
		f, err := root.OpenFile(e.Name(), os.O_RDWR, 0)
		if err != nil {
			continue
		}
		if lock.Own(root, e.Name(), f) != nil {
			f.Close()
			continue
		}
		_ = lock.Remove(f, func() error { return root.Remove(e.Name()) })
	}
}

// AtFile starts a receipt at a path that the user chose. What is there before is replaced at the end.
func AtFile(path string, owner state.Owner) (*Draft, error) {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a plain file", path)
	}
	root, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	name := filepath.Base(path)
	if info, err := root.Stat(name); err == nil {
		if err := replaceable(root, name, info); err != nil {
			root.Close()
			return nil, err
		}
	}
	d, err := start(root, name, fmt.Sprintf(".%s.%d.part", name, os.Getpid()), path, owner)
	if err != nil {
		root.Close()
	}
	return d, err
}

// replaceable refuses a file in whose place no receipt may be put: one that is none itself.
func replaceable(root *os.Root, name string, info fs.FileInfo) error {
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is not a plain file", name)
	}
	if info.Size() == 0 {
		return nil
	}
	f, err := root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := read(f, name); err != nil {
		return fmt.Errorf("%s is there, and is no receipt; only a receipt is replaced", name)
	}
	return nil
}

// start makes the file temp, which must not be there, and takes room for it. root stays the caller's if it fails.
func start(root *os.Root, name, temp, path string, owner state.Owner) (*Draft, error) {
	file, err := state.Begin(root, temp, owner)
	if err != nil {
		return nil, err
	}
	if err = lock.Own(root, temp, file.File); err == nil { // as long as the run goes on
		err = file.Reserve(reserve)
	}
	switch {
	case lock.Lost(err):
		file.Close()
		return nil, err
	case err != nil:
		file.Discard()
		return nil, err
	}
	return &Draft{file, root, name, path}, nil
}

// Path is where the receipt will be.
func (d *Draft) Path() string { return d.path }

// Discard gives the receipt up.
func (d *Draft) Discard() {
	d.file.Discard()
	d.root.Close()
}

// Keep writes the receipt: it is there whole, or not at all.
func (d *Draft) Keep(doc Document) error {
	text, err := document.Encode(doc)
	if err != nil {
		d.Discard()
		return err
	}
	defer d.root.Close()
	if err := d.file.Keep(d.name, text); err != nil {
		return fmt.Errorf("write receipt %s: %w", d.path, err)
	}
	return nil
}
