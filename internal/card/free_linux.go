package card

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card/desktop"
	"zipstamp/internal/card/disks"
)

// free turns off the card's swap and unmounts its file systems, the last mounted first. The error is a *RefusedError.
func (c *Card) free(ctx context.Context) error {
	mounts, swaps := c.InUse()
	for _, s := range swaps {
		if err := swapOff(s.Path); err != nil {
			return c.notFreed("the swap "+s.Path+" can't be turned off", err)
		}
	}
	for _, m := range mounts {
		if err := c.unmount(ctx, m); err != nil {
			return err
		}
	}
	return nil
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

func (c *Card) unmount(ctx context.Context, m disks.Mount) error {
	err := unix.Unmount(m.Point, unix.UMOUNT_NOFOLLOW)
	if errors.Is(err, fs.ErrPermission) {
		d, noDesktop := desktop.Connect()
		if noDesktop != nil {
			return c.notFreed(m.Point+" can't be unmounted", err)
		}
		defer d.Close()
		err = d.Unmount(ctx, m.Source)
	}
	switch {
	case err == nil:
		return nil
	case errors.Is(err, unix.EINVAL): // not mounted any more, or not where this program runs
		return &RefusedError{
			Card: c.Given, Reasons: []string{m.Point + " is mounted for other programs only, in a container or the like"}, Next: "unmount it there, and run the command again",
			Err: errTakenAgain,
		}
	case errors.Is(err, unix.EBUSY), errors.Is(err, desktop.ErrBusy):
		reasons := []string{m.Point + " is in use"}
		for _, u := range usersOf(m.Point) {
			if u.pid == os.Getpid() { // there is no use in waiting for that
				return &RefusedError{
					Card: c.Given, Reasons: []string{fmt.Sprintf("this command itself %s %s", u.how, u.file)}, Next: "go to a folder that is not on the card, and take no file from it; then run the command again",
				}
			}
			reasons = append(reasons, u.String())
		}
		if len(reasons) == 1 {
			reasons[0] += " by a program of another user, or by the kernel itself"
		}
		return &RefusedError{Card: c.Given, Reasons: reasons, Next: "end or close that, and run the command again; with --wait it waits for it", Err: errInUse}
	}
	return c.notFreed(m.Point+" can't be unmounted", err)
}

func (c *Card) notFreed(what string, err error) error {
	e := &RefusedError{Card: c.Given, Reasons: []string{fmt.Sprintf("%s: %s", what, systemSays(err))}, Err: err}
	if errors.Is(err, fs.ErrPermission) {
		e.Reasons = []string{what + ": you have no permission to do that"}
	}
	return e
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
	access := Dropped
	flags, err := unix.FcntlInt(f.Fd(), unix.F_GETFL, 0)
	if err == nil {
		if _, err := unix.FcntlInt(f.Fd(), unix.F_SETFL, flags|unix.O_DIRECT); err == nil {
			access = Direct
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

func writable(path string) bool { return unix.Access(path, unix.R_OK|unix.W_OK) == nil }

// differs says how what was opened differs from what was found; empty if it doesn't.
func (b *block) differs(c *Card) string {
	var st unix.Stat_t
	if err := unix.Fstat(int(b.file.Fd()), &st); err != nil {
		return err.Error()
	}
	now := c.Disk.Identity()
	now.Number = disks.Number{Major: unix.Major(st.Rdev), Minor: unix.Minor(st.Rdev)}
	now.Size = b.size
	if seq, ok := b.sequence(); ok && c.Disk.Seq != 0 {
		now.Seq = seq
	}
	return c.Disk.Identity().Changed(now)
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

// dropPartitions has the kernel forget the partitions, so that nobody finds any to mount. What can't be forgotten is harmless: as long as
// the whole card is held, its partitions can't be opened exclusively.
func (b *block) dropPartitions(parts []disks.Part) {
	for _, p := range parts {
		part := blkpgPartition{number: int32(p.Index)}
		arg := unix.BlkpgIoctlArg{Op: unix.BLKPG_DEL_PARTITION, Datalen: int32(unsafe.Sizeof(part)), Data: (*byte)(unsafe.Pointer(&part))}
		_, _, _ = unix.Syscall(unix.SYS_IOCTL, b.file.Fd(), unix.BLKPG, uintptr(unsafe.Pointer(&arg)))
	}
}
