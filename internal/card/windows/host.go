package windows

import (
	"context"
	"errors"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/shell"
)

// Host is a computer with Windows.
type Host struct {
	sys System

	mu    sync.Mutex
	locks map[string][]Handle // volumes that are locked, by the key of their disk
}

// New is the host of a system.
func New(sys System) *Host { return &Host{sys: sys, locks: map[string][]Handle{}} }

// Ask asks the system for all that is known of its disks. What it doesn't answer stands in the answers.
func (h *Host) Ask() (c Computer, err error) {
	numbers, err := h.sys.Drives()
	if err != nil {
		return c, err
	}
	for _, n := range numbers {
		c.Disks = append(c.Disks, h.askDisk(n))
	}
	volumes, err := h.sys.Volumes()
	if err != nil {
		return c, err
	}
	for _, v := range volumes {
		c.Volumes = append(c.Volumes, h.askVolume(v))
	}
	uses, err := h.sys.Uses()
	if err != nil {
		return c, nil // then all is refused
	}
	c.Used = []Use{}
	for _, u := range uses {
		if u.Error == 0 && u.Device == nil {
			u.Volume, _, err = h.sys.VolumeOf(u.Path)
			u.Error = h.sys.Number(err)
		}
		c.Used = append(c.Used, u)
	}
	return c, nil
}

// answer asks for one thing.
func (h *Host) answer(open Handle, code uint32, in []byte, out int) Answer {
	b, err := open.Control(code, in, out)
	if err != nil {
		return Answer{Error: max(h.sys.Number(err), 1)}
	}
	return Answer{Bytes: b}
}

// standardQuery is STORAGE_PROPERTY_QUERY for StorageDeviceProperty.
var standardQuery = make([]byte, 12)

func (h *Host) askDisk(number int) DiskAnswers {
	a := DiskAnswers{Number: number}
	open, err := h.sys.Open(device(number), ToAsk)
	if err != nil {
		no := Answer{Error: max(h.sys.Number(err), 1)}
		a.Device, a.Descriptor, a.Geometry, a.Hotplug, a.Layout, a.Changes = no, no, no, no, no, no
		return a
	}
	defer open.Close()
	a.Device = h.answer(open, getDeviceNumber, nil, 12)
	a.Descriptor = h.answer(open, queryProperty, standardQuery, descriptorMost)
	a.Geometry = h.answer(open, getGeometry, nil, 256)
	a.Hotplug = h.answer(open, getHotplug, nil, 8)
	a.Changes = h.answer(open, checkVerify, nil, 4)
	if a.Geometry.Error != errNotReady && a.Geometry.Error != errNoMedia {
		a.Layout = h.answer(open, getLayout, nil, layoutMost)
		a.Writable = h.answer(open, isWritable, nil, 0)
	}
	return a
}

func (h *Host) askVolume(volume string) VolumeAnswers {
	v := VolumeAnswers{Name: volume}
	v.Paths, _ = h.sys.PathsOf(volume) // one that has none can't be seen
	open, err := h.sys.Open(strings.TrimSuffix(volume, `\`), ToAsk)
	if err != nil {
		v.Extents = Answer{Error: max(h.sys.Number(err), 1)}
		return v
	}
	defer open.Close()
	v.Extents = h.answer(open, getExtents, nil, volumeMost)
	v.Device = h.answer(open, getDeviceNumber, nil, 12)
	if v.Extents.Error == 0 {
		v.Label, v.Kind, err = h.sys.FileSystemOf(volume)
		v.Error = h.sys.Number(err)
	}
	return v
}

// Disks lists the disks.
func (h *Host) Disks() ([]disks.Disk, error) {
	c, err := h.Ask()
	if err != nil {
		return nil, err
	}
	return c.disks(), nil
}

// Report is what the system answers, for somebody who wants to know why a disk is taken for what it is.
func (h *Host) Report() (any, error) { return h.Ask() }

// What people call disks.
var (
	diskName   = regexp.MustCompile(`(?i)^(?:disk ?|\\\\[.?]\\PhysicalDrive)(\d{1,4})$`)
	letterName = regexp.MustCompile(`^(?:\\\\[.?]\\)?([A-Za-z]):\\?$`)
)

// rootOf is the root that a drive letter stands for; empty for other names.
func rootOf(given string) string {
	if m := letterName.FindStringSubmatch(given); m != nil {
		return strings.ToUpper(m[1]) + `:\`
	}
	return ""
}

// KeyOf is the key of the disk that a name stands for: disk3, \\.\PhysicalDrive3, or the letter (E:, E:\, \\.\E:) of a
// volume that is on one disk. It is empty for anything else.
func (h *Host) KeyOf(given string) string {
	if m := diskName.FindStringSubmatch(given); m != nil {
		n, err := strconv.Atoi(m[1])
		if err != nil {
			return ""
		}
		return name(n)
	}
	root := rootOf(given)
	if root == "" {
		return ""
	}
	volume := h.volumeAt(root)
	if volume == "" {
		return ""
	}
	extents, err := h.askVolume(volume).extents()
	if err != nil || len(extents) == 0 {
		return ""
	}
	for _, e := range extents {
		if e.disk != extents[0].disk {
			return ""
		}
	}
	return name(int(extents[0].disk))
}

// WhyNone says why a drive letter stands for no disk.
func (h *Host) WhyNone(given string) (guard.Reason, bool) {
	root := rootOf(given)
	if root == "" || h.KeyOf(given) != "" {
		return guard.Reason{}, false
	}
	switch h.sys.TypeOf(root) {
	case DriveRemote:
		return guard.Reason{Cause: guard.OtherHost}, true
	case DriveOptical:
		return guard.Reason{Cause: guard.IsUnfit, Unfit: disks.Optical}, true
	case DriveMemory:
		return guard.Reason{Cause: guard.Volume, Made: disks.InMemory}, true
	case DriveNoRoot:
		return guard.Reason{Cause: guard.NotThere}, true
	case DriveRemovable, DriveFixed, DriveUnknown:
	}
	volume := h.volumeAt(root)
	if volume == "" {
		return guard.Reason{Cause: guard.DiskUnknown}, true
	}
	a := h.askVolume(volume)
	switch extents, err := a.extents(); {
	case a.Extents.Error == errNotReady || a.Extents.Error == errNoMedia:
		return guard.Reason{Cause: guard.Empty}, true
	case err == nil && len(extents) > 1:
		return guard.Reason{Cause: guard.Volume, Made: disks.Striped}, true
	}
	return guard.Reason{Cause: guard.DiskUnknown}, true
}

// volumeAt is the volume that can be seen at a root; empty if there is none.
func (h *Host) volumeAt(root string) string {
	volumes, err := h.sys.Volumes()
	if err != nil {
		return ""
	}
	for _, v := range volumes {
		if paths, err := h.sys.PathsOf(v); err == nil && slices.Contains(paths, root) {
			return v
		}
	}
	return ""
}

// Held can't be told before a disk is opened.
func (h *Host) Held(disks.Disk) bool { return false }

// MayWrite tells whether this program may open the disk to write it, which Windows lets only administrators do.
func (h *Host) MayWrite(d disks.Disk) bool {
	open, err := h.sys.Open(d.Path, ToLock)
	if err != nil {
		return h.sys.Number(err) != errAccessDenied
	}
	open.Close()
	return true
}

// How often a volume is tried to be locked, and how long apart: others may look at it for a moment.
const (
	lockTries = 10
	lockPause = 200 * time.Millisecond
)

// Free locks and dismounts all volumes that are on a disk, and keeps them so until what Open gives is closed, or this
// is done again. If one fails, all are let go. The error is a *card.RefusedError.
func (h *Host) Free(ctx context.Context, d disks.Disk) error {
	h.unlock(d.Key)
	number := numberIn(d.Key)
	volumes, err := h.sys.Volumes()
	if err != nil {
		return refused(d, guard.Reason{Cause: guard.NoHost, Err: err})
	}
	var locked []Handle
	undo := func(r guard.Reason) error {
		closeAll(locked)
		return refused(d, r)
	}
	for _, volume := range volumes {
		a := h.askVolume(volume)
		if a.Extents.Error == errNotReady || a.Extents.Error == errNoMedia {
			continue
		}
		extents, err := a.extents()
		shown := shownAs(a)
		switch {
		case err != nil:
			if kind := h.sys.TypeOf(volume); kind == DriveOptical || kind == DriveMemory {
				continue // it is on no disk
			}
			return undo(guard.Reason{Cause: guard.NotUnmounted, Name: shown, Err: err})
		case !isOn(extents, number):
			continue
		}
		open, err := h.sys.Open(strings.TrimSuffix(volume, `\`), ToLock)
		if err != nil {
			return undo(guard.Reason{Cause: guard.NotUnmounted, Name: shown, Err: err})
		}
		locked = append(locked, open)
		switch err := h.takeOut(ctx, open); {
		case ctx.Err() != nil:
			closeAll(locked)
			return context.Cause(ctx)
		case errors.Is(err, errHeld):
			return undo(h.heldBy(a))
		case err != nil:
			return undo(guard.Reason{Cause: guard.NotUnmounted, Name: shown, Err: err})
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.locks[d.Key] = locked
	return nil
}

// errHeld says that a program uses a volume.
var errHeld = errors.New("a program uses it")

// takeOut locks a volume, and dismounts it.
func (h *Host) takeOut(ctx context.Context, volume Handle) error {
	for try := 1; ; try++ {
		_, err := volume.Control(lockVolume, nil, 0)
		if err == nil {
			break
		}
		if try == lockTries {
			return errHeld
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(lockPause):
		}
	}
	_, err := volume.Control(dismountVolume, nil, 0)
	switch h.sys.Number(err) {
	case errBadDevice: // a driver that has no file system to dismount may say that it is of another kind
		return nil
	case errAccessDenied: // it is no question of rights, since it could be locked
		return errHeld
	}
	return err
}

// heldBy says who uses a volume, as far as that can be known.
func (h *Host) heldBy(a VolumeAnswers) guard.Reason {
	var users []guard.Program
	if len(a.Paths) > 0 {
		users = h.sys.UsersOf(a.Paths[0])
	}
	for _, u := range users {
		if u.ID == os.Getpid() {
			return guard.Reason{Cause: guard.UsedByUs, Programs: []guard.Program{u}}
		}
	}
	return guard.Reason{Cause: guard.InUse, Name: shownAs(a), Programs: users}
}

// unlock lets the volumes of a disk go.
func (h *Host) unlock(key string) { closeAll(h.take(key)) }

// take is the volumes of a disk that are locked; whoever takes them lets them go.
func (h *Host) take(key string) []Handle {
	h.mu.Lock()
	defer h.mu.Unlock()
	locked := h.locks[key]
	delete(h.locks, key)
	return locked
}

func closeAll(handles []Handle) {
	for _, h := range handles {
		h.Close()
	}
}

func refused(d disks.Disk, r guard.Reason) error {
	return &card.RefusedError{Card: d.Name, Why: []guard.Reason{r}, Err: r.Err}
}

func isOn(extents []extent, disk int) bool {
	for _, e := range extents {
		if int(e.disk) == disk {
			return true
		}
	}
	return false
}

// shownAs is what people call a volume: its letters, or, where it has none, its name.
func shownAs(v VolumeAnswers) string {
	if all := letters(v); len(all) > 0 {
		return strings.Join(all, ", ")
	}
	return strings.TrimSuffix(v.Name, `\`)
}

// numberIn is the number of the disk with a key.
func numberIn(key string) int {
	n, err := strconv.Atoi(strings.TrimPrefix(key, "disk"))
	if err != nil {
		return -1
	}
	return n
}

// Open opens a disk. One that is to be written is freed first, if that has not been done.
func (h *Host) Open(ctx context.Context, d disks.Disk, mode card.Mode) (card.Medium, error) {
	if mode != card.ToWrite {
		open, err := h.sys.Open(d.Path, ToReadDisk)
		if err != nil {
			return nil, fault.Opening(err)
		}
		return h.drive(d, open, nil)
	}
	h.mu.Lock()
	_, freed := h.locks[d.Key]
	h.mu.Unlock()
	if !freed {
		if err := h.Free(ctx, d); err != nil {
			if errors.As(err, new(*card.RefusedError)) {
				err = fault.Busy.Because(err)
			}
			return nil, err
		}
	}
	locked := h.take(d.Key)
	open, err := h.sys.Open(d.Path, ToWriteDisk)
	if err != nil {
		closeAll(locked)
		return nil, fault.Opening(err)
	}
	return h.drive(d, open, locked)
}

// drive sees whether what was opened is the disk that was found, with the same medium.
func (h *Host) drive(d disks.Disk, open Handle, locked []Handle) (card.Medium, error) {
	v := &drive{Handle: open, host: h, locked: locked, size: d.Size, sector: d.Sector}
	if !v.is(d) {
		v.Close()
		return nil, card.ErrOther
	}
	return v, nil
}

// Look opens a disk to read any bytes of it.
func (h *Host) Look(d disks.Disk) (card.Reader, error) {
	m, err := h.Open(context.Background(), d, card.ToRead)
	if err != nil {
		return nil, err
	}
	return card.NewReader(m, m.Close)
}

// Leave has the system read the new partition table, or ejects. Ejecting first has it show no volumes of a card that
// will be taken out.
func (h *Host) Leave(_ context.Context, d disks.Disk, m card.Medium, want card.Leaving) card.Left {
	v, ok := m.(*drive)
	if !ok {
		return card.Left{}
	}
	if want.Eject || want.PowerOff {
		err := v.eject()
		if err == nil {
			return card.Left{Ejected: true}
		}
		_, _ = v.Control(updateProperties, nil, 0) // it stays, so it is to be seen
		return card.Left{Problem: &card.LeaveError{Step: card.Ejecting, Card: d.Name, Err: err}}
	}
	if _, err := v.Control(updateProperties, nil, 0); err != nil && h.sys.Number(err) != errNotSupported {
		return card.Left{Problem: &card.LeaveError{Step: card.TableRead, Card: d.Name, Err: err}}
	}
	return card.Left{}
}

// lookEvery is how often it is looked whether disks have come or gone.
const lookEvery = time.Second

// Watch looks again and again.
func (h *Host) Watch(ctx context.Context, look func() error) error {
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

// Under finds the volume that a file is on, or will be.
func (h *Host) Under(path string) (card.Standing, error) {
	volume, root, err := h.sys.VolumeOf(path)
	if err != nil {
		return card.Standing{}, err
	}
	if volume == "" {
		return card.Standing{Point: root, Network: true}, nil
	}
	kind := h.sys.TypeOf(root)
	_, fs, _ := h.sys.FileSystemOf(volume) // what it is called doesn't matter
	at := card.Standing{Point: root, Kind: fs, Network: kind == DriveRemote, NoDisk: kind == DriveMemory}
	at.Present = func() bool {
		a := h.askVolume(volume)
		return a.Extents.Error == 0
	}
	return at, nil
}

// Swaps are the page files.
func (h *Host) Swaps() (all []string) {
	uses, err := h.sys.Uses()
	if err != nil {
		return nil
	}
	for _, u := range uses {
		if u.How == PageFile {
			all = append(all, u.Path)
		}
	}
	return all
}

// Local is how things are called here.
func (h *Host) Local() card.Local {
	return card.Local{
		System: "Windows", Example: "disk3", Administrator: true, OnlyCards: true, Untried: true, Shell: shell.Windows,
	}
}

// drive is a disk that is open.
type drive struct {
	Handle
	host   *Host
	locked []Handle // volumes on it
	size   int64
	sector int
}

// is tells whether it is still the disk that was found.
func (v *drive) is(d disks.Disk) bool {
	number, err := v.Control(getDeviceNumber, nil, 12)
	if err != nil || len(number) < 8 || name(int(le.Uint32(number[4:]))) != d.Key {
		return false
	}
	now := v.host.askOpen(v)
	return now.Size == d.Size && now.Sector == d.Sector && now.Serial == d.Serial && now.Insertion == d.Insertion
}

// askOpen asks a disk that is open for what tells it apart.
func (h *Host) askOpen(open Handle) disks.Disk {
	a := DiskAnswers{
		Descriptor: h.answer(open, queryProperty, standardQuery, descriptorMost),
		Geometry:   h.answer(open, getGeometry, nil, 256), Changes: h.answer(open, checkVerify, nil, 4),
	}
	return Computer{}.diskOf(a)
}

func (v *drive) Size() int64         { return v.size }
func (v *drive) SectorSize() int     { return v.sector }
func (v *drive) Access() card.Access { return card.Direct }

// Close closes the disk, and then the volumes: they may be mounted again.
func (v *drive) Close() error {
	err := v.Handle.Close()
	closeAll(v.locked)
	v.locked = nil
	return err
}

// ReadAt reads whole sectors.
func (v *drive) ReadAt(p []byte, off int64) (int, error) {
	if err := card.InSectors(v, p, off); err != nil {
		return 0, err
	}
	n, err := v.Handle.ReadAt(p, off)
	if err == nil && n < len(p) {
		err = errShort
	}
	return n, fault.Of(err)
}

// WriteAt writes whole sectors.
func (v *drive) WriteAt(p []byte, off int64) (int, error) {
	if err := card.InSectors(v, p, off); err != nil {
		return 0, err
	}
	n, err := v.Handle.WriteAt(p, off)
	return n, fault.Of(err)
}

// Flush has the disk keep what it was given.
func (v *drive) Flush() error { return fault.Of(v.Handle.Flush()) }

// Forget has nothing to do: what is read comes from the disk.
func (v *drive) Forget() error { return nil }

// Present tells whether the disk is still there, with its medium.
func (v *drive) Present() bool {
	now := v.host.answer(v, getGeometry, nil, 256)
	g, err := parseGeometry(now.Bytes)
	return now.Error == 0 && err == nil && g.size == v.size
}

// eject ejects the medium: by way of a volume, as is documented, or of the disk where there is none.
func (v *drive) eject() (err error) {
	for _, h := range append(v.locked[:len(v.locked):len(v.locked)], v.Handle) {
		_, _ = h.Control(mediaRemoval, []byte{0}, 0) // one that can't be locked needn't be let go
		if _, err = h.Control(ejectMedia, nil, 0); err == nil {
			return nil
		}
	}
	return err
}
