package image

import (
	"fmt"
	"strings"
)

// DamageError says that the bytes of a download aren't what its packing promises.
type DamageError struct {
	Path      string
	Packing   string
	At        int64 // about where in the file, bytes; decoders read ahead a little
	Unpacked  int64 // bytes of the image that came out before
	Truncated bool  // the file ends too early
	Trailing  int64 // bytes that don't belong to it, behind its end, which is at At; nothing else is wrong then
	Total     Size  // of a file that ends too early: its length by its own account
	Err       error
}

func (e *DamageError) Error() string {
	if e.Truncated && e.Total.Bytes > e.At {
		return fmt.Sprintf("%s is cut short: it has %d of %d bytes", e.Path, e.At, e.Total.Bytes)
	}
	if e.Truncated {
		return fmt.Sprintf("%s is cut short: it ends at byte %d, before its %s packing does (%v)", e.Path, e.At, e.Packing, e.Err)
	}
	if e.Trailing > 0 {
		return fmt.Sprintf("%s: its %s packing ends at byte %d, and %v", e.Path, e.Packing, e.At, e.Err)
	}
	return fmt.Sprintf("%s is damaged near byte %d, after %d bytes of the image (%s: %v)", e.Path, e.At, e.Unpacked, e.Packing, e.Err)
}

func (e *DamageError) Unwrap() error { return e.Err }

// UnusableError says that a file, whole as it may be, holds no image that can be had from it.
type UnusableError struct {
	Path string
	Why  string // "is a web page, not an image"
	Next string // what to do; may be empty
}

func (e *UnusableError) Error() string { return e.Path + " " + e.Why }

// ChoiceError says that the user must choose the image within an archive.
type ChoiceError struct {
	Path    string
	Wanted  string // the member asked for, which isn't there; empty if none was
	Members []string
}

func (e *ChoiceError) Error() string {
	if e.Wanted != "" {
		return fmt.Sprintf("%s has no member %q; it holds: %s", e.Path, e.Wanted, strings.Join(e.Members, ", "))
	}
	return fmt.Sprintf("%s holds %d images: %s", e.Path, len(e.Members), strings.Join(e.Members, ", "))
}
