package card

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
)

// Finder finds cards: disks by the host, files by the kinds of files that stand for cards, which are asked in order.
type Finder struct {
	Host  Host
	Kinds []FileKind
	Known func(name string) (Record, bool) // the card to which a person has given a name; may be nil
}

// Find finds the card that the user names: by the path of a whole disk, of a practice card's file, or of a plain file
// that stands for a card; by label:NAME, the label of a file system on it; by serial:TEXT; or by name:TEXT, the name
// that a person has given to it. The error is a *RefusedError for anything else.
func (f Finder) Find(given string) (*Card, error) {
	if name, ok := strings.CutPrefix(given, "label:"); ok {
		return f.findBy(given, name, ByLabel, hasLabel)
	}
	if text, ok := strings.CutPrefix(given, "serial:"); ok {
		return f.findBy(given, text, BySerial, hasSerial)
	}
	if name, ok := strings.CutPrefix(given, "name:"); ok {
		return f.findNamed(given, name)
	}
	if key := f.Host.KeyOf(given); key != "" {
		if info, err := os.Lstat(given); err == nil && info.Mode().IsRegular() {
			return nil, refuse(given, guard.Reason{Cause: guard.FileAndDisk})
		}
		return f.findDisk(given, key)
	}
	if e, ok := f.Host.(Explainer); ok {
		if why, ok := e.WhyNone(given); ok {
			return nil, refuse(given, why)
		}
	}
	path, err := filepath.EvalSymlinks(given)
	if err == nil {
		path, err = filepath.Abs(path)
	}
	var info fs.FileInfo
	if err == nil {
		info, err = os.Stat(path)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, refuse(given, guard.Reason{Cause: guard.NotThere, Err: bare(err)})
	case err != nil:
		return nil, refuse(given, guard.Reason{Cause: guard.SystemSays, Err: bare(err)})
	case info.IsDir():
		return nil, refuse(given, guard.Reason{Cause: guard.IsFolder})
	case info.Mode().IsRegular():
		return f.findFile(given, path, info)
	}
	return nil, refuse(given, guard.Reason{Cause: guard.NoDevice, Name: special(info.Mode())})
}

func special(m fs.FileMode) string {
	switch {
	case m&fs.ModeCharDevice != 0:
		return "character device"
	case m&fs.ModeNamedPipe != 0:
		return "pipe"
	case m&fs.ModeSocket != 0:
		return "socket"
	case m&fs.ModeDevice != 0:
		return "device"
	}
	return ""
}

// bare is the system's error without the words of the Go call.
func bare(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}

// findDisk finds a disk that the user has named, by its key. The error is a *RefusedError, for a partition too.
func (f Finder) findDisk(given, key string) (*Card, error) {
	all, err := f.Host.Disks()
	if err != nil {
		return nil, refuse(given, guard.Reason{Cause: guard.NoHost, Err: err})
	}
	for _, d := range all {
		if d.Key == key {
			c := f.card(given, d)
			c.named = true
			return c, nil
		}
		for _, p := range d.Parts {
			if p.Key == key {
				return nil, refuse(given, guard.Reason{Cause: guard.IsPart, N: int64(p.Index), Of: d.Path})
			}
		}
	}
	return nil, refuse(given, guard.Reason{Cause: guard.NotListed})
}

// card is a disk as a card that nobody has named.
func (f Finder) card(given string, d disks.Disk) *Card {
	return &Card{
		Given: given, Path: d.Path, Name: d.Name, Kind: Block, Size: d.Size, SectorSize: d.Sector, Model: d.Title(),
		Serial: d.Serial, ReadOnly: d.ReadOnly, Disk: &d, finder: f, source: ofHost{f.Host, d},
	}
}

// findFile finds out what kind of card a file stands for.
func (f Finder) findFile(given, path string, info fs.FileInfo) (*Card, error) {
	for _, kind := range f.Kinds {
		file, err := kind(path, info)
		if err != nil {
			return nil, refuse(given, guard.Reason{Cause: guard.BadSpec, Err: bare(err)})
		}
		if file == nil {
			continue
		}
		c := &Card{
			Given: given, Path: path, Name: filepath.Base(path), Kind: file.Kind, Size: file.Size,
			SectorSize: file.SectorSize, Model: file.Model, Serial: file.Serial, ReadOnly: file.ReadOnly, named: true,
			finder: f, source: file.Source, file: file,
		}
		c.findUses()
		return c, nil
	}
	return nil, refuse(given, guard.Reason{Cause: guard.NoDevice})
}

// findUses finds out whether the computer uses a file as a disk.
func (c *Card) findUses() {
	for _, path := range c.finder.Host.Swaps() {
		if c.Is(path) {
			c.uses.Swaps = append(c.uses.Swaps, disks.Swap{Path: path})
		}
	}
	all, _ := c.finder.Host.Disks() // where there is none, there is no loop device
	for _, d := range all {
		if d.Backing != "" && c.Is(d.Backing) {
			c.uses.Holders = append(c.uses.Holders, disks.Holder{Name: d.Path})
		}
	}
}

// All lists the disks of this computer, as cards that were not named by anybody.
func (f Finder) All() ([]*Card, error) {
	found, err := f.Host.Disks()
	if err != nil {
		return nil, err
	}
	var all []*Card
	for _, d := range found {
		all = append(all, f.card(d.Path, d))
	}
	return all, nil
}

// Under tells what a folder stands on, and the disk that it is on; nil where that is none that the computer knows.
func (f Finder) Under(folder string) (*Card, Standing, error) {
	at, err := f.Host.Under(folder)
	if err != nil || at.Point == "" {
		return nil, at, err
	}
	all, err := f.All()
	if err != nil {
		return nil, at, nil // a computer without disks that can be listed
	}
	for _, one := range all {
		for _, m := range one.Disk.Mounts {
			if m.Point == at.Point {
				return one, at, nil
			}
		}
	}
	return nil, at, nil
}

// Change is a card that came or went.
type Change struct {
	Card    *Card
	Arrived bool
}

// Watch tells of each card that is put in or taken out from when it has called ready, until tell returns an error,
// which it returns, or ctx ends. A card that is here already counts when it has been taken out and put in again.
func (f Finder) Watch(ctx context.Context, ready func(), tell func(Change) error) error {
	var before map[string]*Card
	return f.Host.Watch(ctx, func() error {
		now, err := f.present()
		if err != nil {
			return err
		}
		if before == nil {
			before = now
			ready()
			return nil
		}
		for _, change := range changes(before, now) {
			if err := tell(change); err != nil {
				return err
			}
		}
		before = now
		return nil
	})
}

// present lists the disks, those without a medium too, by their keys.
func (f Finder) present() (map[string]*Card, error) {
	all, err := f.All()
	if err != nil {
		return nil, err
	}
	now := map[string]*Card{}
	for _, c := range all {
		if c.Disk.Bus != disks.Loop && c.Disk.Made == "" && c.Disk.Unfit == "" {
			now[c.Disk.Key] = c
		}
	}
	return now, nil
}

// changes are the cards that went and came between two looks.
func changes(before, now map[string]*Card) (all []Change) {
	isOther := func(a, b *Card) bool {
		return b == nil || b.Size == 0 || a.Disk.Insertion != b.Disk.Insertion ||
			a.Identity().Like(b.Identity()) == Different
	}
	for key, c := range before {
		if c.Size > 0 && isOther(c, now[key]) {
			all = append(all, Change{c, false})
		}
	}
	for key, c := range now {
		if c.Size > 0 && isOther(c, before[key]) {
			all = append(all, Change{c, true})
		}
	}
	return all
}
