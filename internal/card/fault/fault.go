// Package fault has the kinds of errors that devices meet. Each device classifies the errors of its system; above it,
// errors.Is tells the kind, and nobody knows the system's own numbers.
package fault

// Fault is a kind of error. It is an error itself, for devices that have no system below them.
type Fault string

// The kinds.
const (
	// the medium, or the way to it, fails at this place; it may go right when it is tried again
	BadPlace Fault = "input/output error"
	Gone     Fault = "no such device"          // it isn't there any more
	NoMedium Fault = "no medium found"         // there is a reader, and no card in it
	Locked   Fault = "write-protected"         // by a lock, by the system, or by the card itself at the end of its life
	Full     Fault = "no space left on device" // what lies below takes no more
	Busy     Fault = "another program has it"  // exclusively
	NoRights Fault = "permission denied"       // the user may not do that
	// an access that isn't of whole sectors, or not within the device: a mistake of this program's
	Misused Fault = "invalid argument"
)

func (f Fault) Error() string { return string(f) }

// Because gives an error the kind; its text stays.
func (f Fault) Because(err error) error {
	if err == nil {
		return nil
	}
	return &classified{err, f}
}

type classified struct {
	error
	kind Fault
}

func (c *classified) Unwrap() []error { return []error{c.error, c.kind} }
