package lock

import (
	"errors"
	"os"
)

// errTaken says that a file was removed by another run before it could be locked.
var errTaken = errors.New("another run removed it")

// Own locks a file that was just made in a folder. Between making and locking, another run may take it for one that
// nobody works on, and remove it: Lost tells the error of that, and the file is to be made anew.
func Own(root *os.Root, name string, f *os.File) error {
	if err := Take(f); err != nil {
		return err
	}
	return Still(root, name, f)
}

// Still tells whether a file that is open is the one of a name in a folder; the error says why not.
func Still(root *os.Root, name string, f *os.File) error {
	there, err := root.Lstat(name)
	if err != nil {
		return errors.Join(errTaken, err)
	}
	own, err := f.Stat()
	if err != nil {
		return err
	}
	if !os.SameFile(there, own) {
		return errTaken
	}
	return nil
}

// Lost tells whether a file could not be owned because another run has it, or has removed it.
func Lost(err error) bool { return errors.Is(err, errTaken) || errors.Is(err, ErrHeld) }
