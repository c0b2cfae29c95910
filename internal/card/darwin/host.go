package darwin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
)

// System is what is asked of macOS.
type System interface {
	// Diskutil runs diskutil with some words, and gives what it prints on both of its outputs. The error says that it
	// failed, and not why.
	Diskutil(ctx context.Context, words ...string) (out, errs []byte, err error)
	Since(path string) int64         // when a device's node was made, in nanoseconds; 0 where that isn't known
	MayWrite(path string) bool       // this user has the right to
	On(path string) (Mounted, error) // what a path, or its nearest folder that is there, is on
	Uses() ([]Use, error)            // what the system and this program use
	Open(path string, write bool) (Raw, error)
	Name(id int) string // of a program; empty where it isn't known
}

// Mounted is where a file system is.
type Mounted struct {
	Device, Point, Kind string
	Local               bool // it is on this computer
}

// Raw is the raw device of a disk that is open: what is read and written goes round the computer's memory.
type Raw interface {
	io.ReaderAt
	io.WriterAt
	Size() (bytes int64, sector int, err error)
	Flush() error // returns when it is on the medium
	Close() error
}

// Host is a computer with macOS.
type Host struct{ sys System }

// New is the host of a system.
func New(sys System) Host { return Host{sys} }

// askTime bounds how long diskutil may take to answer: it waits for disks that sleep.
const askTime = 40 * time.Second

// Ask asks the system for all that is known of its disks.
func (h Host) Ask(ctx context.Context) (c Computer, err error) {
	ctx, stop := context.WithTimeout(ctx, askTime)
	defer stop()
	list, said, err := h.sys.Diskutil(ctx, "list", "-plist")
	if err != nil {
		return c, fmt.Errorf("diskutil: %w: %s", err, strings.TrimSpace(string(said)))
	}
	c.List, c.Info, c.Since = string(list), map[string]string{}, map[string]int64{}
	var parsed listing
	if err := decode(c.List, &parsed); err != nil {
		return c, err
	}
	for _, id := range parsed.WholeDisks {
		info, _, err := h.sys.Diskutil(ctx, "info", "-plist", id)
		if err == nil { // one that has gone meanwhile is refused
			c.Info[id] = string(info)
		}
		c.Since[id] = h.sys.Since("/dev/" + id)
	}
	if uses, err := h.sys.Uses(); err == nil {
		c.Used = append([]Use{}, uses...)
	}
	return c, nil
}

// Disks lists the disks.
func (h Host) Disks() ([]disks.Disk, error) {
	c, err := h.Ask(context.Background())
	if err != nil {
		return nil, err
	}
	return c.disks()
}

// Report is what the system answers.
func (h Host) Report() (any, error) { return h.Ask(context.Background()) }

var deviceName = regexp.MustCompile(`^(?:/dev/)?r?(disk\d{1,6}(?:s\d{1,4})?)$`)

// KeyOf is the key of a disk or partition: disk4, /dev/disk4, /dev/rdisk4.
func (h Host) KeyOf(given string) string {
	if m := deviceName.FindStringSubmatch(given); m != nil {
		return m[1]
	}
	return ""
}

// Held can't be told before a disk is opened.
func (h Host) Held(disks.Disk) bool { return false }

// MayWrite tells whether the user has the right to write the disk.
func (h Host) MayWrite(d disks.Disk) bool { return h.sys.MayWrite(raw(d)) }

// raw is the device of a disk that goes round the computer's memory.
func raw(d disks.Disk) string { return "/dev/r" + d.Name }

// dissent is how diskutil names a program that keeps a disk from being unmounted.
var dissent = regexp.MustCompile(`dissented by PID (\d+)(?: \(([^)]*)\))?`)

// Free unmounts all volumes of a disk. The error is a *card.RefusedError.
func (h Host) Free(ctx context.Context, d disks.Disk) error {
	out, errs, err := h.sys.Diskutil(ctx, "unmountDisk", d.Name)
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	said := strings.Join(strings.Fields(string(errs)+" "+string(out)), " ")
	name := d.Name
	if len(d.Mounts) > 0 {
		name = d.Mounts[0].Point
	}
	if m := dissent.FindStringSubmatch(said); m != nil {
		id, _ := strconv.Atoi(m[1]) // it has nothing but digits
		program := filepath.Base(m[2])
		if m[2] == "" {
			program = h.sys.Name(id)
		}
		return refused(d, guard.Reason{Cause: guard.InUse, Name: name, Programs: []guard.Program{
			{ID: id, Command: program, How: guard.HasOpen},
		}})
	}
	if said == "" {
		said = err.Error()
	}
	return refused(d, guard.Reason{Cause: guard.NotUnmounted, Name: name, Err: errors.New(said)})
}

func refused(d disks.Disk, r guard.Reason) error {
	return &card.RefusedError{Card: d.Name, Why: []guard.Reason{r}, Err: r.Err}
}

// Open opens the raw device of a disk, alone if it is to be written.
func (h Host) Open(_ context.Context, d disks.Disk, mode card.Mode) (card.Medium, error) {
	if since := h.sys.Since(d.Path); !strings.HasPrefix(d.Insertion, fmt.Sprint(since)+" ") {
		return nil, card.ErrOther
	}
	open, err := h.sys.Open(raw(d), mode == card.ToWrite)
	if err != nil {
		return nil, fault.Opening(err)
	}
	size, sector, err := open.Size()
	if err == nil && (size != d.Size || sector != d.Sector) {
		err = card.ErrOther
	}
	if err != nil {
		open.Close()
		return nil, fault.Opening(err)
	}
	return &drive{Raw: open, size: size, sector: sector}, nil
}

// Look opens a disk to read any bytes of it.
func (h Host) Look(d disks.Disk) (card.Reader, error) {
	m, err := h.Open(context.Background(), d, card.ToRead)
	if err != nil {
		return nil, err
	}
	return card.NewReader(m, m.Close)
}

// Leave ejects. The system reads the new partition table by itself when the disk is closed.
func (h Host) Leave(ctx context.Context, d disks.Disk, m card.Medium, want card.Leaving) card.Left {
	if !want.Eject && !want.PowerOff {
		return card.Left{}
	}
	if v, ok := m.(*drive); ok {
		if err := v.Close(); err != nil { // diskutil ejects nothing that is open
			return card.Left{Problem: &card.LeaveError{Step: card.Closing, Card: d.Name, Err: err}}
		}
	}
	if out, errs, err := h.sys.Diskutil(ctx, "eject", d.Name); err != nil {
		said := strings.Join(strings.Fields(string(errs)+" "+string(out)), " ")
		if said == "" {
			said = err.Error()
		}
		return card.Left{Problem: &card.LeaveError{Step: card.Ejecting, Card: d.Name, Err: errors.New(said)}}
	}
	return card.Left{Ejected: true}
}

// lookEvery is how often it is looked whether disks have come or gone. diskutil takes its time.
const lookEvery = 2 * time.Second

// Watch looks again and again.
func (h Host) Watch(ctx context.Context, look func() error) error {
	for {
		if err := look(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(lookEvery):
		}
	}
}

// inMemory are file systems that are on no disk.
var inMemory = []string{"devfs", "tmpfs", "autofs", "volfs", "fdesc"}

// Under tells what a file, or the folder in which one will be, stands on.
func (h Host) Under(path string) (card.Standing, error) {
	at, err := h.sys.On(path)
	if err != nil {
		return card.Standing{}, err
	}
	standing := card.Standing{
		Point: at.Point, Kind: at.Kind, Network: !at.Local, NoDisk: slices.Contains(inMemory, at.Kind),
	}
	if whole := wholeOf(at.Device); whole != "" {
		since := h.sys.Since("/dev/" + whole)
		standing.Present = func() bool { return h.sys.Since("/dev/"+whole) == since }
	}
	return standing, nil
}

// Swaps are files of the system, which are on disks that it uses anyway.
func (h Host) Swaps() []string { return nil }

// Local is how things are called here.
func (h Host) Local() card.Local {
	return card.Local{
		System: "macOS", Example: "disk4", Elevate: []string{"sudo"}, Unmount: []string{"diskutil", "unmount"},
		OnlyCards: true, Untried: true, Privacy: true,
	}
}

// drive is a disk that is open.
type drive struct {
	Raw
	size   int64
	sector int
	closed bool
}

func (v *drive) Size() int64         { return v.size }
func (v *drive) SectorSize() int     { return v.sector }
func (v *drive) Access() card.Access { return card.Direct }

// Close closes it once: it is closed before it is ejected.
func (v *drive) Close() error {
	if v.closed {
		return nil
	}
	v.closed = true
	return v.Raw.Close()
}

// ReadAt reads whole sectors. A disk whose medium was taken out reads nothing without an error.
func (v *drive) ReadAt(p []byte, off int64) (int, error) {
	if err := card.InSectors(v, p, off); err != nil {
		return 0, err
	}
	n, err := v.Raw.ReadAt(p, off)
	if errors.Is(err, io.EOF) {
		err = fault.Gone.Because(err)
	}
	return n, fault.Of(err)
}

// WriteAt writes whole sectors.
func (v *drive) WriteAt(p []byte, off int64) (int, error) {
	if err := card.InSectors(v, p, off); err != nil {
		return 0, err
	}
	n, err := v.Raw.WriteAt(p, off)
	return n, fault.Of(err)
}

// Flush has the disk keep what it was given.
func (v *drive) Flush() error { return fault.Of(v.Raw.Flush()) }

// Forget has nothing to do: the raw device has no cache.
func (v *drive) Forget() error { return nil }

// Present tells whether the disk is still there.
func (v *drive) Present() bool {
	size, _, err := v.Raw.Size()
	return err == nil && size == v.size && !v.closed
}
