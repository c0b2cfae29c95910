// Package state makes the folders in which the program keeps what it has to remember, for whom it works: under sudo,
// the user who called it.
package state

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
)

// Owner is to whom new files and folders belong; the zero value: to whoever runs the program.
type Owner struct{ UID, GID int }

// Take gives an open file to the owner.
func (o Owner) Take(f *os.File) error {
	if o == (Owner{}) {
		return nil
	}
	return f.Chown(o.UID, o.GID)
}

// Place is a folder that is made when it is needed: Folder, slash-separated or not, below Home, which exists.
type Place struct {
	Home, Folder string
	Owner        Owner
	Shared       bool // its files are for everybody's eyes, as far as the system's settings let new files be
}

// Path of the folder.
func (p Place) Path() string { return filepath.Join(p.Home, p.Folder) }

// Open opens the folder, and makes it if it isn't there. No link in it leads out of Home, so that a program with more
// rights than the owner does no harm.
func (p Place) Open() (*os.Root, error) {
	root, err := os.OpenRoot(p.Home)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	made := "."
	for _, part := range strings.Split(filepath.ToSlash(p.Folder), "/") {
		made = filepath.Join(made, part)
		err := root.Mkdir(made, 0o700)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err == nil && p.Owner != (Owner{}) {
			err = root.Lchown(made, p.Owner.UID, p.Owner.GID)
		}
		if err != nil {
			return nil, err
		}
	}
	return root.OpenRoot(p.Folder)
}

// ReadFile reads a plain file of at most so many bytes. It never waits, as for a pipe that nobody writes to.
func ReadFile(path string, most int64) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: path, Err: errors.New("it is not a plain file")}
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(text)) > most {
		err = &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("it has more than %d bytes", most)}
	}
	return text, err
}

// Sync makes new names in an open folder last through a power cut. Windows has no such call.
func Sync(root *os.Root) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	folder, err := root.Open(".")
	if err != nil {
		return err
	}
	defer folder.Close()
	return folder.Sync()
}

// PlainName keeps a name to characters that every file system takes.
func PlainName(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '.', r == '_', r == '-':
			return r
		}
		return '_'
	}, name)
}
