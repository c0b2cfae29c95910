package card

import (
	"context"
	"os"
	"slices"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/layout"
)

// Kind is what a card is, to be shown and kept. What is done with it doesn't go by that: its source does what is
// different.
type Kind string

// The kinds of card.
const (
	Block    Kind = "block device"
	Plain    Kind = "plain file"
	Practice Kind = "practice card"
	Folder   Kind = "folder" // whose free space is tested, on a disk that isn't known
)

// Card is a card that was found, not yet opened: what it is, and what is known that may speak
// against writing it.
type Card struct {
	Given      string // as the user named it
	Path       string // without links
	Name       string // short, to be typed in by the user: sdb, good.card
	Kind       Kind
	Size       int64 // claimed capacity, bytes
	SectorSize int   // logical sector, bytes
	Model      string
	Serial     string
	ReadOnly   bool
	Disk       *disks.Disk // what the computer knows of a disk; nil for files

	named  bool // by its path
	finder Finder
	source Source
	file   *File      // of a file
	uses   disks.Disk // what a file is used for as a disk
}

// Consent is what the user says to what speaks against writing a card.
type Consent struct {
	FixedDisk bool // a disk that is neither removable nor in an SD slot is meant
	Asked     bool // there is a person, who is shown what is in use and asked before it is freed
}

// Kept is the file that keeps what the card holds, where that is another one; empty for others.
func (c *Card) Kept() string {
	if c.file == nil {
		return ""
	}
	return c.file.Keeps
}

// IsUncertain tells whether nothing says that a file stands for a card: it may be anything.
func (c *Card) IsUncertain() bool { return c.file != nil && c.file.Uncertain }

// Is tells whether the file at path is the card, or keeps what it holds.
func (c *Card) Is(path string) bool {
	own := []string{c.Path, c.Kept()}
	if c.Disk != nil {
		own = append(own, c.Disk.Backing)
	}
	return slices.ContainsFunc(own, func(own string) bool { return sameFile(path, own) })
}

func sameFile(a, b string) bool {
	one, err := os.Stat(a)
	if err != nil {
		return false
	}
	two, err := os.Stat(b)
	return err == nil && os.SameFile(one, two)
}

// facts are what guard is told.
func (c *Card) facts(o Consent) guard.Facts {
	f := guard.Facts{Named: c.named, FixedDisk: o.FixedDisk, Asked: o.Asked}
	if c.Disk == nil {
		f.File, f.Disk = true, c.uses
		f.Name, f.Size, f.ReadOnly = c.Name, c.Size, c.ReadOnly
		return f
	}
	f.Disk = *c.Disk
	idle := len(f.System)+len(f.Mounts)+len(f.Swaps)+len(f.Holders) == 0 && f.Made == "" && f.Unfit == "" && f.Size > 0
	// others are refused anyway, and a disk that sleeps needn't be woken
	if idle && (f.Removable || f.Bus == disks.SDSlot || f.Named || f.FixedDisk) {
		f.Held = c.finder.Host.Held(f.Disk)
	}
	return f
}

// Reasons are what speaks against writing the card, the weightiest first; none if it may be written.
func (c *Card) Reasons(o Consent) []guard.Reason { return guard.Judge(c.facts(o)) }

// Refusal says why the card may not be written; nil if it may.
func (c *Card) Refusal(o Consent) error {
	if reasons := c.Reasons(o); len(reasons) > 0 {
		return &RefusedError{Card: c.Given, Why: reasons}
	}
	return nil
}

// InUse lists what has to be freed before the card can be written: mounted file systems, the last mounted first, and
// swap.
func (c *Card) InUse() (mounts []disks.Mount, swaps []disks.Swap) {
	if c.Disk == nil {
		return nil, nil
	}
	return c.Disk.InUse(), c.Disk.Swaps
}

// Open opens the card for exclusive use; what is mounted of it isn't freed. The error is a *RefusedError.
func (c *Card) Open() (Device, error) { return c.open(context.Background(), ToWrite) }

// OpenToCompare opens the card to read it from the medium and not from this computer's memory, without keeping others
// from using it. Writing it fails. The error is a *RefusedError.
func (c *Card) OpenToCompare() (Device, error) { return c.open(context.Background(), ToRead) }

func (c *Card) open(ctx context.Context, mode Mode) (Device, error) {
	m, err := c.source.Open(ctx, mode)
	if err != nil {
		return nil, c.refusedOpen(err, mode)
	}
	return guarded{m, c.Given}, nil
}

// OpenToRead opens the card to look at what is on it. The error is a *RefusedError.
func (c *Card) OpenToRead() (Reader, error) {
	if l, ok := c.source.(Looker); ok {
		r, err := l.Look()
		if err != nil {
			return nil, c.refusedOpen(err, ToRead)
		}
		return r, nil
	}
	d, err := c.OpenToCompare()
	if err != nil {
		return nil, err
	}
	return NewReader(d, d.Close)
}

// Contents reads what is on the card. It needs the right to read it.
func (c *Card) Contents() (layout.Disk, error) {
	r, err := c.OpenToRead()
	if err != nil {
		return layout.Disk{}, err
	}
	defer r.Close()
	return layout.Describe(r, c.Size, c.SectorSize)
}
