package card

import (
	"errors"
	"fmt"
	"strings"

	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
)

// RefusedError says that a card may not or can't be used, before anything has been done to it.
type RefusedError struct {
	Card string         // as the user named it
	Why  []guard.Reason // the weightiest first; at least one
	Err  error          // what the system said; may be nil
	// Unmounted are the folders that were unmounted before it turned out that not all could be
	Unmounted []string
}

func (e *RefusedError) Error() string {
	var why []string
	for _, r := range e.Why {
		why = append(why, r.String())
	}
	return e.Card + " is refused: " + strings.Join(why, "; ")
}

func (e *RefusedError) Unwrap() error { return e.Err }

// For tells whether a card is refused for a cause, among others.
func (e *RefusedError) For(causes ...guard.Cause) bool {
	for _, r := range e.Why {
		for _, c := range causes {
			if r.Cause == c {
				return true
			}
		}
	}
	return false
}

// refusedOpen says why a card can't be opened.
func (c *Card) refusedOpen(err error, mode Mode) *RefusedError {
	r := guard.Reason{Cause: guard.SystemSays, Err: bare(err)}
	for _, known := range []struct {
		err   error
		cause guard.Cause
	}{
		{ErrOther, guard.PutInAgain},
		{fault.NoRights, guard.NoRights},
		{fault.Busy, guard.Busy},
		{fault.NoMedium, guard.Empty},
		{fault.Locked, guard.Protected},
	} {
		if errors.Is(err, known.err) {
			r = guard.Reason{Cause: known.cause}
			break
		}
	}
	switch {
	case r.Cause == guard.NoRights && mode == ToRead:
		r.Cause = guard.NoRightToRead
	case r.Cause == guard.Protected && c.Disk == nil:
		r.Cause = guard.LockedFile
	}
	return &RefusedError{Card: c.Given, Why: []guard.Reason{r}, Err: err}
}

// IOError says that a card failed to read or write.
type IOError struct {
	Op     string // "read", "write", "flush"
	Card   string
	Offset int64 // bytes; meaningless for flush
	Err    error // what the system said; errors.Is tells its kind (package fault)
}

func (e *IOError) Error() string {
	if e.Op == "flush" {
		return fmt.Sprintf("flush %s: %v", e.Card, e.Err)
	}
	return fmt.Sprintf("%s %s at byte %d: %v", e.Op, e.Card, e.Offset, e.Err)
}

func (e *IOError) Unwrap() error { return e.Err }

// IsBadPlace tells whether an error says that a card failed at one place, which may go right when it is tried again or
// written anew, as opposed to one after which the card gives nothing more.
func IsBadPlace(err error) bool {
	return errors.As(err, new(*IOError)) && errors.Is(err, fault.BadPlace)
}

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

// guarded names the errors of a medium.
type guarded struct {
	Medium
	name string
}

// Named gives the errors of a medium the types that those of a Device have.
func Named(m Medium, name string) Device { return guarded{m, name} }

// Rates are those of the medium, where its pace is given.
func (g guarded) Rates() (write, read float64) { return Rates(g.Medium) }

func (g guarded) ReadAt(p []byte, off int64) (int, error) {
	n, err := g.Medium.ReadAt(p, off)
	return n, g.named("read", off, err)
}

func (g guarded) WriteAt(p []byte, off int64) (int, error) {
	n, err := g.Medium.WriteAt(p, off)
	return n, g.named("write", off, err)
}

func (g guarded) Flush() error { return g.named("flush", 0, g.Medium.Flush()) }

func (g guarded) Forget() error { return g.named("flush", 0, g.Medium.Forget()) }

func (g guarded) Discard(off, length int64) error {
	err := Discard(g.Medium, off, length)
	if errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	return g.named("discard", off, err)
}

func (g guarded) named(op string, off int64, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fault.Gone), errors.Is(err, fault.NoMedium), !g.Present():
		return &GoneError{g.name, err}
	}
	return &IOError{op, g.name, off, err}
}
