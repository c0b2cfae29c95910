// Package card knows what may be stamped: disks, practice cards and plain files that stand for cards. It finds out what
// they are and what speaks against writing them, and opens them so that nothing else can write at the same time, and so
// that what is read comes from the card and not from this computer's memory.
//
// It knows no operating system. A Host is what a system offers, and a Source what is behind a card; package here says
// which of them this computer has.
package card

import (
	"errors"
	"fmt"
	"io"

	"zipstamp/internal/card/fault"
)

// Device is a card opened for exclusive use. Offsets and lengths are multiples of SectorSize, and
// buffers come from a Pool. Its methods may be called from several goroutines at once, except Close.
// Errors are *GoneError and *IOError; errors.Is tells the kind of either (package fault).
type Device interface {
	io.ReaderAt
	io.WriterAt
	Size() int64     // claimed capacity, bytes
	SectorSize() int // logical sector, bytes
	Flush() error    // returns when the device says that written data is on the medium
	Forget() error   // drops every cache of this computer, so the next read comes from the device
	Access() Access  // how reads get past this computer's memory
	Close() error
}

// Medium is a device as a host or another source opens it: its errors are of the kinds of package fault, and have no
// name yet.
type Medium interface {
	Device
	Present() bool // whether the card is still there, asked after an error
}

// ForgivingDevice is a Device that forgives some errors, and remembers them.
type ForgivingDevice interface {
	Device
	Mishaps() []Mishap // what went wrong and then right
}

// ReturningDevice is a Device that can take up a card which was gone for a moment.
type ReturningDevice interface {
	Device
	// Recognise says how to know the card when one is there again. Until it is called, no card is taken for it.
	Recognise(known func(Device) bool)
}

// DiscardingDevice is a Device, or a Medium, that can tell the card that it needn't keep what it holds somewhere:
// reading gives anything then, on many cards zeros. Offset and length are in bytes, of whole sectors. The error is
// errors.ErrUnsupported where the card, its reader or the system doesn't do that.
type DiscardingDevice interface {
	Discard(off, length int64) error
}

// PacedDevice is a Device, or a Medium, whose pace is given, as that of a simulated card may be: what depends on rates
// goes by these, and not by what was measured on a computer that may be busy. Bytes a second; 0: not given.
type PacedDevice interface {
	Rates() (write, read float64)
}

// Rates are those of a device whose pace is given; 0 where it isn't.
func Rates(d any) (write, read float64) {
	if p, ok := d.(PacedDevice); ok {
		return p.Rates()
	}
	return 0, 0
}

// Discard has a device do that, if it can.
func Discard(d any, off, length int64) error {
	if able, ok := d.(DiscardingDevice); ok {
		return able.Discard(off, length)
	}
	return errors.ErrUnsupported
}

// Access is how reads and writes get past this computer's memory.
type Access string

// The ways, best first.
const (
	Direct    Access = "direct"    // no cache stands between
	Dropped   Access = "dropped"   // through the cache, which is dropped before reading, or keeps nothing
	Simulated Access = "simulated" // a practice card: its file is the card
	Unopened  Access = "not opened"
	Cached    Access = "cached" // this system can't go round its cache for this file
)

// InSectors refuses an access to a device that isn't of whole sectors, or not within it; not all drivers do. p has the
// bytes that are read or written, and off is where, in bytes. The error is a fault.Misused.
func InSectors(m Medium, p []byte, off int64) error {
	sector := int64(m.SectorSize())
	if off < 0 || off%sector != 0 || int64(len(p))%sector != 0 || off > m.Size()-int64(len(p)) {
		return fault.Misused.Because(fmt.Errorf("%d bytes at %d", len(p), off))
	}
	return nil
}
