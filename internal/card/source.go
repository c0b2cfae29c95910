package card

import (
	"context"
	"io"
	"io/fs"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
)

// Source is what is behind a card: a disk of the host, a plain file, a simulated card.
type Source interface {
	// Open opens it. Errors are of the kinds of package fault.
	Open(ctx context.Context, mode Mode) (Medium, error)
}

// Mode is what a source is opened for.
type Mode int

// The modes.
const (
	ToWrite Mode = iota // alone: nothing else may write it meanwhile
	ToRead              // from the medium and not from this computer's memory, beside others; writing fails
)

// Looker is a source of which any bytes can be read without opening the medium, as for a look at what is on it.
type Looker interface {
	Look() (Reader, error)
}

// Returner is a source that may be there again after it was gone, as a card is whose reader was reset.
type Returner interface {
	// Again is the source as it is then; nil if it isn't there.
	Again() Source
}

// Leaver is a source that is let go in a way of its own.
type Leaver interface {
	Leave(ctx context.Context, m Medium, want Leaving) Left
}

// FileKind recognises the files of a kind that stand for cards. It returns nil for a file of another kind; the error
// says why a file of its kind can't be used.
type FileKind func(path string, info fs.FileInfo) (*File, error)

// File is a file that stands for a card.
type File struct {
	Source
	Kind          Kind
	Size          int64 // bytes
	SectorSize    int   // bytes
	Model, Serial string
	ReadOnly      bool
	Number        string // tells it from another file under the same name, where only that does
	Keeps         string // the file that keeps what the card holds, where it is another one
	Uncertain     bool   // nothing in it says that it stands for a card: it may be anything
}

// ofHost is a disk.
type ofHost struct {
	host Host
	disk disks.Disk
}

func (s ofHost) Open(ctx context.Context, mode Mode) (Medium, error) {
	return s.host.Open(ctx, s.disk, mode)
}

func (s ofHost) Look() (Reader, error) { return s.host.Look(s.disk) }

func (s ofHost) Leave(ctx context.Context, m Medium, want Leaving) Left {
	return s.host.Leave(ctx, s.disk, m, want)
}

// Reader reads a card anywhere, and doesn't keep others from using it.
type Reader interface {
	io.ReaderAt
	io.Closer
}

// Leaving is how a card is let go.
type Leaving struct {
	Eject    bool // so that it can be taken out
	PowerOff bool // the stick or reader, where that can be done
}

// Left is how a card was let go.
type Left struct {
	Ejected    bool  // it can be taken out
	PoweredOff bool  // likewise
	Problem    error // why not all that was wanted was done; nil if it was. A *LeaveError, or one of closing
}

// LeaveError says what could not be done when a card was let go.
type LeaveError struct {
	Step  LeaveStep
	Card  string
	Other string // another card in the same reader, which is why its power stays on
	Err   error
}

func (e *LeaveError) Error() string { return string(e.Step) + " " + e.Card + ": " + e.Err.Error() }

func (e *LeaveError) Unwrap() error { return e.Err }

// LeaveStep is a part of letting a card go.
type LeaveStep string

// The steps.
const (
	TableRead LeaveStep = "read the new partition table of"
	Ejecting  LeaveStep = "eject"
	PowerOff  LeaveStep = "turn off"
	Closing   LeaveStep = "close"
)

// refuse makes an error of a single reason.
func refuse(card string, r guard.Reason) *RefusedError {
	return &RefusedError{Card: card, Why: []guard.Reason{r}, Err: r.Err}
}
