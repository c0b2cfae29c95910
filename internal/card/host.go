package card

import (
	"context"
	"errors"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/shell"
)

// Host is what an operating system offers for cards. What it can't do, it refuses with errors.ErrUnsupported.
type Host interface {
	// Disks lists all disks, with what the computer uses them for.
	Disks() ([]disks.Disk, error)

	// KeyOf is the key of the disk or partition that a path, or another name, stands for; empty for anything else.
	KeyOf(name string) string

	// Held tells whether another program has a disk for itself alone, as far as the user may know.
	Held(d disks.Disk) bool

	// MayWrite tells whether the user has, or can get when asked, the right to write a disk.
	MayWrite(d disks.Disk) bool

	// Open opens a disk. The error is ErrOther if another disk or medium is there now, or of the kinds of package
	// fault.
	Open(ctx context.Context, d disks.Disk, mode Mode) (Medium, error)

	// Look opens a disk to read any bytes of it, perhaps from the computer's memory. Errors are of the kinds of package
	// fault.
	Look(d disks.Disk) (Reader, error)

	// Free takes a disk out of use: swap is turned off, file systems are unmounted. The error is a *RefusedError.
	Free(ctx context.Context, d disks.Disk) error

	// Leave has the system read the new partition table, and ejects. It does not close the medium.
	Leave(ctx context.Context, d disks.Disk, m Medium, want Leaving) Left

	// Watch calls look at once, and then whenever disks may have come or gone, until look returns an error, which it
	// returns, or ctx ends.
	Watch(ctx context.Context, look func() error) error

	// Under tells what a file, or the folder in which one will be, stands on.
	Under(path string) (Standing, error)

	// Swaps are the partitions and files that are in use as swap.
	Swaps() []string

	// Local is how things are called and done here.
	Local() Local
}

// ErrOther says that another disk, or another medium, is where one was that had been found.
var ErrOther = errors.New("another disk is there now")

// Standing is what a file stands on.
type Standing struct {
	Point   string      // where the file system is mounted, as disks.Mount has it
	Kind    string      // of the file system, as the system calls it; empty where that isn't known
	Network bool        // it is another computer's
	NoDisk  bool        // it is in memory, or made by the system
	Present func() bool // whether the disk below is still there; nil where that can't be told
}

// Local is how things are called and done on a system, for advice. What is empty can't be had there.
type Local struct {
	System   string   // Linux
	Example  string   // of a card's name: /dev/sdb
	Elevate  []string // the start of a command that runs another one with the right to write cards
	SwapOff  []string // of one that turns off swap
	Unmount  []string // of one that unmounts a folder
	AsCaller bool     // the program may be run for another user, and takes care of that

	Administrator bool       // rights come with a terminal that is opened as administrator
	OnlyCards     bool       // a fixed disk can't be written, whatever the user says
	Privacy       bool       // the system lets programs at cards only if its settings for privacy say so
	Untried       bool       // writing real cards was tried here with stand-ins only
	Shell         shell.Kind // how command lines are written
}

// Forecaster is a host that can tell beforehand whether a disk can be taken out of use. The error is a *RefusedError.
type Forecaster interface {
	MayFree(d disks.Disk) error
}

// Reporter is a host that can say what its system answered, for somebody who wants to know why a disk is taken for what
// it is.
type Reporter interface {
	Report() (any, error) // as JSON
}

// Explainer is a host that can say why a name that a disk could have stands for none that may be chosen. It returns
// false for other names.
type Explainer interface {
	WhyNone(name string) (guard.Reason, bool)
}

// Unsupported is a host that can do nothing with disks. Hosts that can do some of it embed it.
type Unsupported struct{ System string }

// Disks refuses.
func (u Unsupported) Disks() ([]disks.Disk, error) { return nil, errors.ErrUnsupported }

// KeyOf knows no disk.
func (u Unsupported) KeyOf(string) string { return "" }

// Held can't be told; no disk is listed of which it could be asked.
func (u Unsupported) Held(disks.Disk) bool { return true }

// MayWrite refuses.
func (u Unsupported) MayWrite(disks.Disk) bool { return false }

// Open refuses.
func (u Unsupported) Open(context.Context, disks.Disk, Mode) (Medium, error) {
	return nil, errors.ErrUnsupported
}

// Look refuses.
func (u Unsupported) Look(disks.Disk) (Reader, error) { return nil, errors.ErrUnsupported }

// Free refuses.
func (u Unsupported) Free(context.Context, disks.Disk) error { return errors.ErrUnsupported }

// Leave refuses.
func (u Unsupported) Leave(context.Context, disks.Disk, Medium, Leaving) Left {
	return Left{Problem: errors.ErrUnsupported}
}

// Watch refuses.
func (u Unsupported) Watch(context.Context, func() error) error { return errors.ErrUnsupported }

// Under refuses.
func (u Unsupported) Under(string) (Standing, error) { return Standing{}, errors.ErrUnsupported }

// Swaps are none that are known.
func (u Unsupported) Swaps() []string { return nil }

// Local has the system's name.
func (u Unsupported) Local() Local { return Local{System: u.System} }
