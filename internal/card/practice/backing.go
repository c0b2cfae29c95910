package practice

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"zipstamp/internal/card/lock"
)

// backing is the file that keeps what a card really holds.
type backing struct {
	*os.File
	empty bool // opened to read only, before anything was written: it reads as zeros
}

// openBacking opens the file and locks it. It must be a plain file of the length, or empty: anything else is not a
// card's.
func openBacking(path string, length int64, flags int) (b backing, err error) {
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && flags&os.O_CREATE != 0:
		flags |= os.O_EXCL
	case err != nil:
		return b, err
	case !info.Mode().IsRegular():
		return b, fmt.Errorf("%s is not a plain file", path)
	}
	f, err := os.OpenFile(path, flags, 0o666)
	if err != nil {
		return b, err
	}
	if b, err = prepare(f, length, flags&os.O_RDWR != 0); err != nil {
		f.Close()
	}
	return b, err
}

// prepare locks the file and gives it its length; what it holds is kept.
func prepare(f *os.File, length int64, write bool) (b backing, err error) {
	if err := lock.Take(f); err != nil {
		return b, err
	}
	info, err := f.Stat()
	if err != nil {
		return b, err
	}
	switch {
	case info.Size() == length:
	case info.Size() > 0:
		return b, fmt.Errorf("%s has %d bytes, and what this card holds has %d: it is not this card's", f.Name(),
			info.Size(), length)
	case write:
		return backing{File: f}, f.Truncate(length)
	}
	return backing{f, info.Size() == 0}, nil
}

// ReadAt reads what the card holds.
func (b backing) ReadAt(p []byte, off int64) (int, error) {
	if b.empty {
		clear(p)
		return len(p), nil
	}
	n, err := b.File.ReadAt(p, off)
	if errors.Is(err, io.EOF) && n == len(p) {
		err = nil
	}
	return n, err
}
