//go:build linux

package linux

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/linux/desktop"
)

// Free turns off the disk's swap and unmounts its file systems, the last mounted first. The error is a
// *card.RefusedError.
func (Host) Free(ctx context.Context, d disks.Disk) error {
	for _, s := range d.Swaps {
		if err := swapOff(s.Path); err != nil {
			return refused(d, guard.Reason{Cause: guard.SwapStays, Name: s.Path, Err: err})
		}
	}
	for _, m := range d.InUse() {
		if err := unmount(ctx, d, m); err != nil {
			return err
		}
	}
	return nil
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
		users := usersOf(m.Point)
		for _, u := range users {
			if u.ID == os.Getpid() { // there is no use in waiting for that
				return refused(d, guard.Reason{Cause: guard.UsedByUs, Programs: []guard.Program{u}})
			}
		}
		return refused(d, guard.Reason{Cause: guard.InUse, Name: m.Point, Programs: users})
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
