package card

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
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
	Disk       *disks.Disk // what the computer knows of a block device; nil for files

	named bool // by its path
	swaps []string
	loops []string // loop devices on a plain file
	spec  practice.Spec
}

// Consent is what the user says to what speaks against writing a card.
type Consent struct {
	FixedDisk bool // a disk that is neither removable nor in an SD slot is meant
	Asked     bool // there is a person, who is shown what is in use and asked before it is freed
}

// Find finds the card that the user names: by the path of a whole block device, of a practice card's file, or of
// a plain file that stands for a card; by label:NAME, the label of a file system on it; or by serial:TEXT. The error is a *RefusedError
// for anything else.
func Find(given string) (*Card, error) {
	if name, ok := strings.CutPrefix(given, "label:"); ok {
		return findBy(given, name, "label", hasLabel)
	}
	if text, ok := strings.CutPrefix(given, "serial:"); ok {
		return findBy(given, text, "serial number", hasSerial)
	}
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
	c := &Card{Given: given, Path: path, Name: filepath.Base(path), named: true}
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

// findBlock fills in what the computer knows of the block device. The error is a *RefusedError for a partition.
func (c *Card) findBlock() error {
	all, err := list()
	if err != nil {
		return &RefusedError{Card: c.Given, Reasons: []string{err.Error()}, Next: "make a practice card: zipstamp practice new FILE --claimed 64MB", Err: err}
	}
	number, ok := deviceNumber(c.Path)
	for i := range all {
		d := &all[i]
		if d.Number == number && ok {
			c.fill(d)
			return nil
		}
		for _, p := range d.Parts {
			if p.Number == number && ok {
				return &RefusedError{
					Card:    c.Given,
					Reasons: []string{fmt.Sprintf("it is partition %d of the card %s, and an image is for a whole card", p.Index, d.Path)},
					Next:    "name the whole card: " + d.Path,
				}
			}
		}
	}
	return &RefusedError{Card: c.Given, Reasons: []string{"the kernel knows no such disk any more"}, Next: "put the card in again, and see what zipstamp cards shows"}
}

// fill takes over what the computer knows.
func (c *Card) fill(d *disks.Disk) {
	c.Kind, c.Disk = Block, d
	c.Path, c.Name = d.Path, d.Name
	c.Size, c.SectorSize, c.ReadOnly = d.Size, d.Sector, d.ReadOnly
	c.Model, c.Serial = d.Title(), d.Serial
}

// list lists the disks, after the drives whose medium can be taken out have been asked for it: the kernel may still think that one is there
// which was ejected, or not know of one that was put in.
func list() ([]disks.Disk, error) {
	all, err := disks.Tree{Root: "/"}.List()
	asked := false
	for _, d := range all {
		if d.Removable && d.Unfit == "" {
			asked = ask(d.Path) || asked
		}
	}
	if asked {
		return disks.Tree{Root: "/"}.List()
	}
	return all, err
}

// All lists the disks of this computer, as cards that were not named by anybody.
func All() ([]*Card, error) {
	found, err := list()
	if err != nil {
		return nil, err
	}
	var all []*Card
	for i := range found {
		c := &Card{Given: found[i].Path}
		c.fill(&found[i])
		all = append(all, c)
	}
	return all, nil
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

// Kept is the file that keeps what a practice card holds; empty for others.
func (c *Card) Kept() string { return c.spec.Backing }

// Is tells whether the file at path is the card, or keeps what it holds.
func (c *Card) Is(path string) bool {
	info, err := os.Stat(path)
	if err != nil {
		return false
	}
	own := []string{c.Path, c.spec.Backing}
	if c.Disk != nil {
		own = append(own, c.Disk.Backing)
	}
	for _, own := range own {
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
	c.findUses()
	return nil
}

// findUses finds out whether the computer uses a plain file as a disk.
func (c *Card) findUses() {
	same := func(path string) bool { return path != "" && c.Is(path) }
	for _, path := range (disks.Tree{Root: "/"}).Swaps() {
		if same(path) {
			c.swaps = append(c.swaps, path)
		}
	}
	all, _ := disks.Tree{Root: "/"}.List() // where there is none, there is no loop device
	for _, d := range all {
		if same(d.Backing) {
			c.loops = append(c.loops, fmt.Sprintf("the loop device %s", d.Path))
		}
	}
}

// kinds of fixed disks, in words.
var kinds = map[disks.Bus]string{
	disks.NVMe: "an NVMe disk", disks.SATA: "a SATA disk", disks.SCSI: "a SCSI disk", disks.USB: "a USB disk", disks.EMMC: "the board's own eMMC",
	disks.FireWire: "a FireWire disk", disks.Machine: "the disk of a virtual machine", disks.Network: "a network disk", disks.Other: "a disk of an unknown kind",
}

// facts are what guard is told.
func (c *Card) facts(o Consent) guard.Facts {
	f := guard.Facts{Name: c.Name, Named: c.named, Size: c.Size, ReadOnly: c.ReadOnly, FixedDisk: o.FixedDisk, Asked: o.Asked}
	d := c.Disk
	if d == nil {
		f.File, f.Swaps, f.Holders = true, c.swaps, c.loops
		return f
	}
	f.Removable, f.SDSlot, f.Loop = d.Removable, d.Bus == disks.SDSlot, d.Bus == disks.Loop
	f.Kind, f.Made, f.Unfit, f.System, f.Holders = kinds[d.Bus], d.Made, d.Unfit, d.System, d.Holders
	for _, m := range d.Mounts {
		f.Mounts = append(f.Mounts, guard.Mount{Source: m.Source, Point: m.Point, Volume: m.Via != ""})
	}
	for _, s := range d.Swaps {
		f.Swaps = append(f.Swaps, s.Path)
	}
	idle := len(f.System)+len(f.Mounts)+len(f.Swaps)+len(f.Holders) == 0 && f.Made == "" && f.Unfit == "" && c.Size > 0
	if idle && (f.Removable || f.SDSlot || f.Named || f.FixedDisk) { // others are refused anyway, and a disk that sleeps needn't be woken
		f.Held = held(c.Path)
	}
	return f
}

// Reasons are what speaks against writing the card, the weightiest first; none if it may be written.
func (c *Card) Reasons(o Consent) []guard.Reason { return guard.Judge(c.facts(o)) }

// Refusal says why the card may not be written; nil if it may.
func (c *Card) Refusal(o Consent) error {
	if refused := c.refusal(c.Reasons(o)); refused != nil {
		return refused
	}
	return nil
}

// refusal makes an error of reasons; nil if there are none.
func (c *Card) refusal(reasons []guard.Reason) *RefusedError {
	if len(reasons) == 0 {
		return nil
	}
	e := &RefusedError{Card: c.Given, Next: reasons[0].Next}
	for _, r := range reasons {
		e.Reasons = append(e.Reasons, r.Text)
	}
	return e
}

// InUse lists what has to be freed before the card can be written: mounted file systems, the last mounted first, and swap.
func (c *Card) InUse() (mounts []disks.Mount, swaps []disks.Swap) {
	if c.Disk == nil {
		return nil, nil
	}
	mounts = slices.Clone(c.Disk.Mounts)
	slices.Reverse(mounts)
	return mounts, c.Disk.Swaps
}

// Open opens the card for exclusive use; what is mounted of it isn't freed. The error is a *RefusedError.
func (c *Card) Open() (Device, error) {
	var m medium
	var err error
	switch c.Kind {
	case Block:
		m, err = asMedium(openBlock(c.Path))
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

// asMedium makes no medium of a nil one.
func asMedium[M medium](m M, err error) (medium, error) {
	if err != nil {
		return nil, err
	}
	return m, nil
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
