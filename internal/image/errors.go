package image

import (
	"fmt"
	"io/fs"
	"strings"
)

// DamageError says that the bytes of a download aren't what its packing promises.
type DamageError struct {
	Path      string
	Packing   string
	Member    string // of an archive whose files are wanted, that is damaged; empty: it is the image, or the archive
	At        int64  // about where in the file, bytes; decoders read ahead a little
	Unpacked  int64  // bytes of the image that came out before
	Truncated bool   // the file ends too early
	Trailing  int64  // bytes that don't belong to it, behind its end, which is at At; nothing else is wrong then
	Total     Size   // of a file that ends too early: its length by its own account
	Err       error
}

func (e *DamageError) Error() string {
	if e.Truncated && e.Total.Bytes > e.At {
		return fmt.Sprintf("%s is cut short: it has %d of %d bytes", e.Path, e.At, e.Total.Bytes)
	}
	if e.Truncated {
		return fmt.Sprintf("%s is cut short: it ends at byte %d, before its %s packing does (%v)", e.Path, e.At,
			e.Packing, e.Err)
	}
	if e.Trailing > 0 {
		return fmt.Sprintf("%s: its %s packing ends at byte %d, and %v", e.Path, e.Packing, e.At, e.Err)
	}
	return fmt.Sprintf("%s is damaged near byte %d, after %d bytes of the image (%s: %v)", e.Path, e.At, e.Unpacked,
		e.Packing, e.Err)
}

func (e *DamageError) Unwrap() error { return e.Err }

// Unusable is a kind of reason why a file gives no image.
type Unusable string

// The kinds, and which fields of an UnusableError belong to each.
const (
	Empty          Unusable = "empty"
	IsOther        Unusable = "is something else"    // Other
	HoldsOther     Unusable = "holds something else" // Other
	HoldsNothing   Unusable = "holds no bytes"
	HoldsLittle    Unusable = "holds too few bytes"  // Bytes
	HoldsNoImage   Unusable = "holds no image"       // Packing, Count of files, the largest by Name and Bytes
	HoldsBootFiles Unusable = "holds boot files"     // Name of one among Count
	NoArchive      Unusable = "no archive"           // where one of loose files was wanted
	TakenApart     Unusable = "its files are wanted" // and no image
	HoldsOne       Unusable = "holds a single image" // and a member was asked for
	PackedTooOften Unusable = "packed too often"     // more than Count times
	UnpacksToMuch  Unusable = "unpacks to too much"  // more than Most, or says so (Claimed)
	ManyMembers    Unusable = "too many members"     // more than Count
	NeedsFile      Unusable = "needs a file"         // Packing, that of an archive, which came through a pipe
	Encrypted      Unusable = "encrypted"            // Name; empty: all of it
	UnknownMethod  Unusable = "unknown method"       // Name of the member and Method; either may be empty
	UnknownFilter  Unusable = "unknown filter"       // Method
	UnknownVersion Unusable = "unknown version"      // Packing, Count
	NeedsMemory    Unusable = "needs much memory"    // Bytes, 0 where it isn't known, of which Most are taken
)

// UnusableError says that a file gives no image, even if it is undamaged.
type UnusableError struct {
	Path          string
	Why           Unusable
	Other         Stranger
	Packing, Name string
	Method        string
	Count         int64
	Bytes, Most   int64
	Claimed       bool
}

func (e *UnusableError) Error() string {
	text := e.Path + ": " + string(e.Why)
	for _, detail := range []string{string(e.Other.Kind), e.Packing, e.Name, e.Method} {
		if detail != "" {
			text += ", " + detail
		}
	}
	return text
}

// NoFile is a kind of reason why what was named is no file that could hold an image.
type NoFile string

// The kinds; the last two are of the standard input.
const (
	Folder   NoFile = "is a folder"
	NotFile  NoFile = "is not a regular file"
	NoStream NoFile = "is a terminal or device"
	NoBytes  NoFile = "has no bytes"
)

// OpenError says that what was named is no file; errors.Is takes it for fs.ErrInvalid.
type OpenError struct {
	Path string
	Why  NoFile
}

func (e *OpenError) Error() string { return e.Path + ": " + string(e.Why) }

func (e *OpenError) Unwrap() error { return fs.ErrInvalid }

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

// placedError is an error of a decoder that knows its place in the packed stream.
type placedError struct {
	packing string // of the stream
	at      int64  // bytes from its start
	err     error
}

func (e *placedError) Error() string {
	return fmt.Sprintf("%s, in the part at byte %d: %v", e.packing, e.at, e.err)
}

func (e *placedError) Unwrap() error { return e.err }
