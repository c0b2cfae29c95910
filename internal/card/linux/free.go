//go:build linux

package linux

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"unsafe"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/linux/desktop"
)

// Free turns off the disk's swap and unmounts its file systems, the last mounted first. The error is a
// *card.RefusedError.
func (h Host) Free(ctx context.Context, d disks.Disk) error {
	if err := h.MayFree(d); err != nil { // so that what is in use doesn't leave half of it unmounted
		return err
	}
	for _, s := range d.Swaps {
		if err := swapOff(s.Path); err != nil {
			return refused(d, guard.Reason{Cause: guard.SwapStays, Name: s.Path, Err: err})
		}
	}
	var done []string
	for _, m := range d.InUse() {
		if err := unmount(ctx, d, m); err != nil {
			var refused *card.RefusedError
			if errors.As(err, &refused) {
				refused.Unmounted = done
			}
			return err
		}
		done = append(done, m.Point)
	}
	return nil
}

// MayFree tells whether no program uses a file system of the disk, and nothing is mounted over one, as far as this user
// may know.
func (Host) MayFree(d disks.Disk) error {
	for _, m := range d.InUse() {
		if !isOnTop(m) {
			return refused(d, guard.Reason{Cause: guard.NotUnmounted, Name: m.Point, Err: errCovered})
		}
		if users := usersOf(m.Point); len(users) > 0 {
			return inUse(d, m, users)
		}
	}
	return nil
}

// inUse is the refusal of a disk that programs use.
func inUse(d disks.Disk, m disks.Mount, users []guard.Program) error {
	for _, u := range users {
		if u.ID == os.Getpid() { // there is no use in waiting for that
			return refused(d, guard.Reason{Cause: guard.UsedByUs, Programs: []guard.Program{u}})
		}
	}
	return refused(d, guard.Reason{Cause: guard.InUse, Name: m.Point, Programs: users})
}

func refused(d disks.Disk, r guard.Reason) error {
	return &card.RefusedError{Card: d.Name, Why: []guard.Reason{r}, Err: r.Err}
}

func swapOff(path string) error {
	p, err := unix.BytePtrFromString(path)
	if err != nil {
		return err
	}
	if _, _, errno := unix.Syscall(unix.SYS_SWAPOFF, uintptr(unsafe.Pointer(p)), 0, 0); errno != 0 {
		return errno
	}
	return nil
}

// errCovered says that another file system is mounted over the one that is to be unmounted.
var errCovered = errors.New("another file system is mounted over it; unmount that first")

// isOnTop tells whether a mount is what its point shows. What lies over it, be it another disk's, would be unmounted in
// its place.
func isOnTop(m disks.Mount) bool {
	if m.Via == "overlay" { // its source is no device
		return true
	}
	all, err := mountinfo.GetMounts(func(i *mountinfo.Info) (skip, stop bool) { return i.Mountpoint != m.Point, false })
	if err != nil || len(all) == 0 {
		return true // the kernel will say so
	}
	top := all[len(all)-1]
	var st unix.Stat_t
	if err := unix.Stat(m.Source, &st); err != nil {
		return true
	}
	if int(unix.Major(st.Rdev)) == top.Major && int(unix.Minor(st.Rdev)) == top.Minor {
		return true
	}
	source, err := filepath.EvalSymlinks(top.Source) // of file systems whose number is not that of their disk
	return err == nil && source == m.Source
}

func unmount(ctx context.Context, d disks.Disk, m disks.Mount) error {
	err := unix.Unmount(m.Point, unix.UMOUNT_NOFOLLOW)
	if errors.Is(err, fs.ErrPermission) {
		service, noDesktop := desktop.Connect()
		if noDesktop != nil {
			return refused(d, guard.Reason{Cause: guard.NotUnmounted, Name: m.Point, Err: err})
		}
		defer service.Close()
		err = service.Unmount(ctx, m.Source)
	}
	switch {
	case err == nil:
		return nil
	case errors.Is(err, unix.EINVAL): // not mounted any more, or not where this program runs
		return refused(d, guard.Reason{Cause: guard.MountedElse, Name: m.Point})
	case errors.Is(err, unix.EBUSY), errors.Is(err, desktop.ErrBusy):
		return inUse(d, m, usersOf(m.Point))
	}
	return refused(d, guard.Reason{Cause: guard.NotUnmounted, Name: m.Point, Err: err})
}

// openByDesktop opens a card through the desktop's service, where there is one.
func openByDesktop(ctx context.Context, path string, denied error) (*block, error) {
	d, err := desktop.Connect()
	if err != nil {
		return nil, denied
	}
	defer d.Close()
	fd, err := d.Open(ctx, path)
	if err != nil {
		return nil, err
	}
	return fromDescriptor(fd, path)
}

// fromDescriptor takes over a descriptor that another program has opened, and makes it a direct one.
func fromDescriptor(f *os.File, path string) (*block, error) {
	access := card.Dropped
	flags, err := unix.FcntlInt(f.Fd(), unix.F_GETFL, 0)
	if err == nil {
		if _, err := unix.FcntlInt(f.Fd(), unix.F_SETFL, flags|unix.O_DIRECT); err == nil {
			access = card.Direct
		}
	}
	b := &block{file: f, access: access}
	if err := b.measure(); err != nil {
		f.Close()
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return b, nil
}

// desktopHelps tells whether there is a service that may open cards for users without rights.
func desktopHelps() bool {
	d, err := desktop.Connect()
	if err != nil {
		return false
	}
	d.Close()
	return true
}

// sequence is the kernel's number of the medium; it counts every one since the start (since Linux 5.15).
func (b *block) sequence() (uint64, bool) {
	var seq uint64
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, b.file.Fd(), unix.BLKGETDISKSEQ, uintptr(unsafe.Pointer(&seq)))
	return seq, errno == 0
}

// blkpgPartition is struct blkpg_partition (Linux, include/uapi/linux/blkpg.h).
type blkpgPartition struct {
	start, length int64
	number        int32
	names         [128]byte
}

// dropPartitions has the kernel forget the partitions, so that nobody finds any to mount. What can't be forgotten is
// harmless: as long as the whole card is held, its partitions can't be opened exclusively.
func (b *block) dropPartitions(parts []disks.Part) {
	for _, p := range parts {
		part := blkpgPartition{number: int32(p.Index)}
		arg := unix.BlkpgIoctlArg{
			Op: unix.BLKPG_DEL_PARTITION, Datalen: int32(unsafe.Sizeof(part)), Data: (*byte)(unsafe.Pointer(&part)),
		}
		_, _, _ = unix.Syscall(unix.SYS_IOCTL, b.file.Fd(), unix.BLKPG, uintptr(unsafe.Pointer(&arg)))
	}
}
