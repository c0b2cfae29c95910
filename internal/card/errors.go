package card

import (
	"errors"
	"fmt"
	"strings"
	"syscall"

	"zipstamp/internal/card/lock"
)

// RefusedError says that a card may not or can't be written, before anything has been.
type RefusedError struct {
	Card    string   // as the user named it
	Reasons []string // each a clause: "/ is mounted from /dev/sda2"
	Next    string   // what to do; may be empty
	Err     error    // what the system said; may be nil
}

func (e *RefusedError) Error() string {
	return e.Card + " is refused: " + strings.Join(e.Reasons, "; ")
}

func (e *RefusedError) Unwrap() error { return e.Err }

// IOError says that a card failed to read or write.
type IOError struct {
	Op     string // "read", "write", "flush"
	Card   string
	Offset int64 // bytes; meaningless for flush
	Err    error // what the system said
}

func (e *IOError) Error() string {
	if e.Op == "flush" {
		return fmt.Sprintf("flush %s: %v", e.Card, e.Err)
	}
	return fmt.Sprintf("%s %s at byte %d: %v", e.Op, e.Card, e.Offset, e.Err)
}

func (e *IOError) Unwrap() error { return e.Err }

// StuckError says that a card takes no writes any more, anywhere.
type StuckError struct {
	Offset int64 // where the first write failed, bytes
	Err    error // that of a write
}

func (e *StuckError) Error() string {
	return fmt.Sprintf("from byte %d on the card took no writes any more: %v", e.Offset, e.Err)
}

func (e *StuckError) Unwrap() error { return e.Err }

// GoneError says that a card isn't there any more: pulled out, or the reader was.
type GoneError struct {
	Card string
	Err  error // what the system said
}

func (e *GoneError) Error() string { return fmt.Sprintf("%s is gone: %v", e.Card, e.Err) }

func (e *GoneError) Unwrap() error { return e.Err }

// medium is a device whose errors are those of the system.
type medium interface {
	Device
	present() bool // whether the card is still there, asked after an error
}

// guarded names the errors of a medium.
type guarded struct {
	medium
	name string
}

func (g guarded) ReadAt(p []byte, off int64) (int, error) {
	n, err := g.medium.ReadAt(p, off)
	return n, g.named("read", off, err)
}

func (g guarded) WriteAt(p []byte, off int64) (int, error) {
	n, err := g.medium.WriteAt(p, off)
	return n, g.named("write", off, err)
}

func (g guarded) Flush() error { return g.named("flush", 0, g.medium.Flush()) }

func (g guarded) Forget() error { return g.named("flush", 0, g.medium.Forget()) }

func (g guarded) named(op string, off int64, err error) error {
	switch {
	case err == nil:
		return nil
	case isGone(err), !g.present():
		return &GoneError{g.name, err}
	}
	return &IOError{op, g.name, off, err}
}

// isGone tells the errors that say so themselves.
func isGone(err error) bool {
	return errors.Is(err, syscall.ENODEV) || errors.Is(err, syscall.ENXIO) || isNoMedium(err)
}

func isBusy(err error) bool { return errors.Is(err, syscall.EBUSY) || errors.Is(err, lock.ErrHeld) }

func isReadOnly(err error) bool { return errors.Is(err, syscall.EROFS) }
