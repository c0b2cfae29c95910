package journal

import (
	"errors"
	"fmt"
)

// Fate is what became of a journal.
type Fate struct {
	What    What
	Sectors int // that were put back
}

// What is a kind of fate.
type What string

// What may become of a journal.
const (
	Unsettled    What = ""                  // nothing was tried
	PutBack      What = "put back"          // what it had is on the card again
	WasBack      What = "was back"          // nothing had to be written
	LooksBack    What = "looks back"        // the card has what was saved, but may be another one: the journal is kept
	Deleted      What = "deleted"           // as was asked for
	WouldPutBack What = "would be put back" // without a dry run
	WouldDelete  What = "would be deleted"  // likewise
	StillValid   What = "kept as usable"    // it was to be deleted, but can be used, and no card was named
)

// ErrOtherCard says that a card is not the one that a journal is of, or was written since. Nothing was written to it.
var ErrOtherCard = errors.New("the card is not the one that was tested, or was written since")

// NotBackError says that a card did not take all that had been saved of it. The counts are of sectors. The journal is
// kept.
type NotBackError struct {
	Restored int // put back
	Unread   int // that can't be read, on a card that may be another one
	Wrong    int // that did not take what was put back
	Torn     int // of which what was saved is damaged
	Other    int // that hold something else, which may have been written since
}

func (e *NotBackError) Error() string {
	return fmt.Sprintf(
		"%d sectors put back, %d did not take it, %d can't be read, %d hold something else, %d were saved damaged",
		e.Restored, e.Wrong, e.Unread, e.Other, e.Torn,
	)
}
