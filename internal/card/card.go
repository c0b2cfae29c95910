package card

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"zipstamp/internal/card/practice"
)

// Kind is what a card is.
type Kind string

// The kinds of card.
const (
	Block    Kind = "block device"
	Plain    Kind = "plain file"
	Practice Kind = "practice card"
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
	Mounts     []Mount  // file systems of the card that are mounted
	Swaps      []string // swap areas of the card that are in use
	Holders    []string // what has been built on it: dm-0 (LVM or the like), md0 (RAID)
	Virtual    string   // what the device is, if it isn't one of its own: "a RAID array"

	spec practice.Spec
}

// Mount is a mounted file system.
type Mount struct {
	Source string // the partition or card
	Point  string // where it is mounted
}

// Find finds the card that the user names by a path: a whole block device, a practice card's file, or
// a plain file that stands for a card. The error is a *RefusedError for anything else.
func Find(given string) (*Card, error) {
	path, err := filepath.EvalSymlinks(given)
	if err == nil {
		path, err = filepath.Abs(path)
	}
	var info fs.FileInfo
	if err == nil {
		info, err = os.Stat(path)
	}
	if err != nil {
		return nil, notFound(given, err)
	}
	c := &Card{Given: given, Path: path, Name: filepath.Base(path)}
	switch mode := info.Mode(); {
	case mode.IsDir():
		return nil, &RefusedError{Card: given, Reasons: []string{"it is a folder, not a card"}, Next: "name the card's device, such as /dev/sdb"}
	case mode.IsRegular():
		return c, c.findFile(info)
	case mode&fs.ModeDevice != 0 && mode&fs.ModeCharDevice == 0:
		return c, c.findBlock()
	}
	return nil, &RefusedError{Card: given, Reasons: []string{"it is " + special(info.Mode()) + ", not a card"}, Next: "name the card's device, such as /dev/sdb"}
}

func special(m fs.FileMode) string {
	switch {
	case m&fs.ModeCharDevice != 0:
		return "a character device"
	case m&fs.ModeNamedPipe != 0:
		return "a pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	}
	return "neither a device nor a file"
}

func notFound(given string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return &RefusedError{Card: given, Reasons: []string{"there is no such card"}, Next: "put the card in, and see that the name is right", Err: err}
	}
	return &RefusedError{Card: given, Reasons: []string{systemSays(err)}, Err: err}
}

// systemSays is the system's words without those of the Go call.
func systemSays(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

// Is tells whether the file at path is the card, or keeps what a practice card holds.
func (c *Card) Is(path string) bool {
	info, err := os.Stat(path)
	if err != nil {
		return false
	}
	for _, own := range []string{c.Path, c.spec.Backing} {
		if other, err := os.Stat(own); err == nil && os.SameFile(info, other) {
			return true
		}
	}
	return false
}

// findFile fills in what a plain file says: a practice card's own word, or its length.
func (c *Card) findFile(info fs.FileInfo) error {
	spec, err := practice.Load(c.Path)
	switch {
	case err == nil:
		c.Kind, c.spec = Practice, spec
		c.Size, c.SectorSize = int64(spec.Claimed), spec.Sector
		c.Model, c.Serial, c.ReadOnly = spec.Model, spec.Serial, spec.ReadOnly
		return nil
	case !errors.Is(err, practice.ErrNotSpec):
		return &RefusedError{Card: c.Given, Reasons: []string{"it is a practice card that can't be used: " + systemSays(err)}, Next: "docs/formats.md describes practice cards", Err: err}
	}
	c.Kind, c.SectorSize = Plain, 512
	c.Size = info.Size() / 512 * 512
	c.ReadOnly = info.Mode().Perm()&0o222 == 0
	c.Swaps = swapFiles(c.Path)
	return nil
}

// Refusal says why the card may not be written, whatever the user wants; nil if it may.
func (c *Card) Refusal() error {
	reasons, next := Judge(c)
	if len(reasons) == 0 {
		return nil
	}
	return &RefusedError{Card: c.Given, Reasons: reasons, Next: next}
}

// Open opens the card for exclusive use. The error is a *RefusedError.
func (c *Card) Open() (Device, error) {
	var m medium
	var err error
	switch c.Kind {
	case Block:
		m, err = openBlock(c.Path)
	case Plain:
		m, err = openPlain(c.Path)
	case Practice:
		m, err = openPractice(c.spec)
	}
	if err != nil {
		return nil, c.refusedOpen(err)
	}
	if m.Size() != c.Size && c.Kind == Block {
		m.Close()
		return nil, &RefusedError{Card: c.Given, Reasons: []string{fmt.Sprintf("its size changed from %d to %d bytes: is it another card?", c.Size, m.Size())}, Next: "run the command again"}
	}
	return guarded{m, c.Given}, nil
}

func (c *Card) refusedOpen(err error) error {
	e := &RefusedError{Card: c.Given, Err: err, Reasons: []string{systemSays(err)}}
	switch {
	case errors.Is(err, fs.ErrPermission):
		e.Reasons = []string{"you have no permission to write it"}
	case isBusy(err):
		e.Reasons = []string{"another program is working on it"}
		e.Next = "wait until that has ended, or end it, and run the command again"
	case isNoMedium(err):
		e.Reasons = []string{"there is no card in the reader"}
		e.Next = "put the card in, and run the command again"
	case isReadOnly(err):
		e.Reasons = []string{"it is write-protected"}
		e.Next = "slide the lock on the card's or adapter's side, and put it in again"
	}
	return e
}

// openPractice puts a practice card in.
func openPractice(s practice.Spec) (medium, error) {
	c, err := practice.Open(s)
	if err != nil {
		return nil, err
	}
	return practiceMedium{c}, nil
}

type practiceMedium struct{ *practice.Card }

func (practiceMedium) Access() Access { return Simulated }

func (practiceMedium) present() bool { return true } // when it is gone, its errors say so
