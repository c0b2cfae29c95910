//go:build linux

// Package linux is the card.Host of Linux.
//
// What disks there are, and what the computer uses them for, comes from the kernel's own files (sysfs and procfs), and
// the names of file systems from udev's database where there is one, since a user without rights can't read the disks.
// A Tree reads nothing but files, so that a copied tree of them gives the same answer as the computer they come from.
// Users without rights get a card from the desktop's disk service (UDisks2), if that lets them.
package linux

import (
	"context"
	"errors"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/linux/uevent"
)

// Host is this computer. It has no state.
type Host struct{}

// here is where the kernel's files are.
var here = Tree{Root: "/"}

// Disks lists the disks, after the drives whose medium can be taken out have been asked for it: the kernel may still
// think that one is there which was ejected, or not know of one that was put in.
func (Host) Disks() ([]disks.Disk, error) {
	all, err := here.List()
	asked := false
	for _, d := range all {
		if d.Removable && d.Unfit == "" {
			asked = ask(d.Path) || asked
		}
	}
	if asked {
		return here.List()
	}
	return all, err
}

// KeyOf is the device number of a block device; empty for anything else.
func (Host) KeyOf(path string) string {
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil || st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return ""
	}
	return numberOf(st.Rdev).String()
}

// Swaps are the partitions and files that are in use as swap.
func (Host) Swaps() []string { return here.Swaps() }

// MayWrite tells whether the user may open the device, or there is a service that may do it for him.
func (Host) MayWrite(d disks.Disk) bool {
	return unix.Access(d.Path, unix.R_OK|unix.W_OK) == nil || desktopHelps()
}

// Open opens a disk, exclusively (O_EXCL) if it is to be written, and directly (O_DIRECT) where the driver can. From
// then on the kernel knows no partitions of a disk that is to be written.
func (Host) Open(ctx context.Context, d disks.Disk, mode card.Mode) (card.Medium, error) {
	flags := os.O_RDONLY
	if mode == card.ToWrite {
		flags = os.O_RDWR | unix.O_EXCL
	}
	b, err := openBlock(d.Path, flags)
	if mode == card.ToWrite && errors.Is(err, os.ErrPermission) {
		b, err = openByDesktop(ctx, d.Path, err)
	}
	if err == nil && !b.is(d) {
		b.Close()
		err = card.ErrOther
	}
	if err != nil {
		return nil, fault.Opening(err)
	}
	if mode == card.ToWrite {
		b.dropPartitions(d.Parts)
	}
	return b, nil
}

// Look opens the device as any file. What the kernel has read of it before doesn't count: while another program has the
// device open, it outlasts what is written by a partition.
func (Host) Look(d disks.Disk) (card.Reader, error) {
	f, err := os.Open(d.Path)
	if err != nil {
		return nil, fault.Opening(err)
	}
	_ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) // a device that takes no advice is read all the same
	return f, nil
}

// Local is how things are called here.
func (Host) Local() card.Local {
	return card.Local{
		System: "Linux", Example: "/dev/sdb", Elevate: []string{"sudo"}, SwapOff: []string{"sudo", "swapoff"},
		Unmount: []string{"sudo", "umount"}, AsCaller: true,
	}
}

// How long is waited: for the kernel's next message before it is looked all the same (a container hears none), and
// after one until the partitions are known too.
const (
	lookEvery  = 2 * time.Second
	settleTime = 400 * time.Millisecond
)

// Watch looks at the kernel's messages of disks.
func (Host) Watch(ctx context.Context, look func() error) error {
	l, err := uevent.Listen()
	if err != nil {
		return err
	}
	defer l.Close()
	if err := look(); err != nil {
		return err
	}
	looked := time.Now()
	for {
		e, heard, err := l.Next(100 * time.Millisecond)
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if heard && !e.Disk() || !heard && time.Since(looked) < lookEvery {
			continue
		}
		if heard {
			time.Sleep(settleTime)
			for more := true; more && err == nil; { // what belongs to the same event
				_, more, err = l.Next(0)
			}
		}
		looked = time.Now()
		if err := look(); err != nil {
			return err
		}
	}
}
