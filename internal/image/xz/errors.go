package xz

import (
	"errors"
	"fmt"
	"io"
)

// Error says what is wrong with an .xz file, and where. Err is io.ErrUnexpectedEOF where it ends too early.
type Error struct {
	At  int64 // bytes from the file's start: where the part starts that is wrong
	Err error
}

func (e *Error) Error() string { return fmt.Sprintf("xz, in the part at byte %d: %v", e.At, e.Err) }

func (e *Error) Unwrap() error { return e.Err }

// UnsupportedError says that a file may be right, but can't be unpacked here.
type UnsupportedError struct {
	Filter        int64 // its ID: one that isn't known, or that stands where it may not
	Dict, DictMax int64 // bytes that its dictionary needs, and that may be used; 0 of a filter
}

func (e *UnsupportedError) Error() string {
	if e.Dict > 0 {
		return fmt.Sprintf("it needs a dictionary of %d bytes, and %d are the most that is taken", e.Dict, e.DictMax)
	}
	return fmt.Sprintf("it has the filter 0x%X in a place where it can't be used", e.Filter)
}

// early makes an end of the input an early one.
func early(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
