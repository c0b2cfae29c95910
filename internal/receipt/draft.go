package receipt

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"zipstamp/internal/state"
)

// reserve is the room that a draft takes on the disk, bytes. A receipt with all lists full is smaller.
const reserve = 384 << 10

// Draft is a receipt that will be written: its file is there, under another name, with room on the disk. So a
// folder that can't be written, or a disk that is full, is found before the work and not after it.
type Draft struct {
	root *os.Root // the folder
	file *os.File
	temp string // names within the folder
	name string
	path string // of the receipt to be, for messages
}

// InFolder starts a receipt of a job in a folder for many.
func InFolder(folder state.Place, job, cardName string, now time.Time) (*Draft, error) {
	root, err := folder.Open()
	if err != nil {
		return nil, err
	}
	base := fmt.Sprintf("%s-%s-%s", now.UTC().Format("20060102-150405"), state.PlainName(job), state.PlainName(cardName))
	for i := 1; ; i++ {
		name := base + ".json"
		if i > 1 {
			name = fmt.Sprintf("%s-%d.json", base, i)
		}
		if _, err := root.Lstat(name); err == nil {
			continue // an earlier run's
		}
		d, err := start(root, name, "."+name+".part", filepath.Join(folder.Path(), name), folder.Owner)
		if errors.Is(err, fs.ErrExist) {
			continue // another run has just taken it
		}
		if err != nil {
			root.Close()
		}
		return d, err
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
	file, err := root.OpenFile(temp, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	if err = owner.Take(file); err == nil {
		_, err = file.Write(make([]byte, reserve))
	}
	if err == nil {
		err = file.Sync()
	}
	if err != nil {
		file.Close()
		_ = root.Remove(temp) // nothing is lost if it stays
		return nil, err
	}
	return &Draft{root: root, file: file, temp: temp, name: name, path: path}, nil
}

// Path is where the receipt will be.
func (d *Draft) Path() string { return d.path }

// Discard gives the receipt up.
func (d *Draft) Discard() {
	d.file.Close()
	_ = d.root.Remove(d.temp) // nothing is lost if it stays
	d.root.Close()
}

// Keep writes the receipt: it is there whole, or not at all.
func (d *Draft) Keep(doc Document) error {
	text, err := Encode(doc)
	if err == nil {
		err = d.fill(text)
	}
	if err != nil {
		d.Discard()
		return fmt.Errorf("write receipt %s: %w", d.path, err)
	}
	defer d.root.Close()
	if err := d.root.Rename(d.temp, d.name); err != nil {
		_ = d.root.Remove(d.temp) // nothing is lost if it stays
		return fmt.Errorf("write receipt %s: %w", d.path, err)
	}
	return state.Sync(d.root)
}

func (d *Draft) fill(text []byte) error {
	if _, err := d.file.WriteAt(text, 0); err != nil {
		return err
	}
	if err := d.file.Truncate(int64(len(text))); err != nil {
		return err
	}
	return errors.Join(d.file.Sync(), d.file.Close())
}

// Encode writes the document as people can read it.
func Encode(doc Document) ([]byte, error) {
	text, err := json.MarshalIndent(doc, "", "  ")
	return append(text, '\n'), err
}
