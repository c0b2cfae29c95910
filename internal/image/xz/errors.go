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
	Why string // continues a sentence about the file: "it is packed with the filter SPARC"
}

func (e *UnsupportedError) Error() string { return e.Why }

// early makes an end of the input an early one.
func early(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
