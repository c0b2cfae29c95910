//go:build linux

package linux

import (
	"context"
	"errors"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/linux/desktop"
)

// Leave has the kernel read the partition table again, and ejects what is on the USB.
func (Host) Leave(ctx context.Context, d disks.Disk, m card.Medium, want card.Leaving) card.Left {
	b, ok := m.(*block)
	if !ok {
		return card.Left{}
	}
	var left card.Left
	problem := func(step card.LeaveStep, err error) card.Left {
		var held *inUseError
		e := &card.LeaveError{Step: step, Card: d.Name, Err: err}
		if errors.As(err, &held) {
			e.Other = held.name
		}
		left.Problem = e
		return left
	}
	switch err := b.rereadTable(ctx, d); {
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENODEV), errors.Is(err, unix.ENXIO):
		// a kernel or a loop device that looks for no partitions, or a card that is gone
	case err != nil:
		problem(card.TableRead, err)
	}
	if d.Bus != disks.USB || !want.Eject && !want.PowerOff {
		return left
	}
	if err := b.eject(ctx, d); err != nil {
		return problem(card.Ejecting, err)
	}
	left.Ejected = true
	if want.PowerOff {
		if err := powerOff(ctx, d); err != nil {
			return problem(card.PowerOff, err)
		}
		left.PoweredOff = true
	}
	return left
}

// inUseError says that a reader holds another card.
type inUseError struct{ name string }

func (e *inUseError) Error() string { return "the same reader holds " + e.name }

// rereadTable tries a few times: whoever watches the disks may have a partition open for a moment.
func (b *block) rereadTable(ctx context.Context, disk disks.Disk) error {
	for try := 0; ; try++ {
		err := unix.IoctlSetInt(int(b.file.Fd()), unix.BLKRRPART, 0)
		if errors.Is(err, unix.EACCES) || errors.Is(err, unix.EPERM) {
			d, noDesktop := desktop.Connect()
			if noDesktop != nil {
				return err
			}
			defer d.Close()
			return d.Rescan(ctx, disk.Path)
		}
		if !errors.Is(err, unix.EBUSY) || try == 10 {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// cdromEject is CDROMEJECT (Linux, include/uapi/linux/cdrom.h). Disks of SCSI and USB take it too: the kernel sends
// START STOP UNIT with LOEJ (SBC-4, section 5.31). doorUnlock is SCSI_IOCTL_DOORUNLOCK (include/scsi/scsi_ioctl.h).
const (
	cdromEject = 0x5309
	doorUnlock = 0x5381
)

// eject ejects the medium. The kernel has the drive hold on to it as long as it is open, which some drives take
// seriously.
func (b *block) eject(ctx context.Context, disk disks.Disk) error {
	_ = unix.IoctlSetInt(int(b.file.Fd()), doorUnlock, 0) // a drive that can't doesn't lock either
	err := unix.IoctlSetInt(int(b.file.Fd()), cdromEject, 0)
	if err == nil {
		return nil
	}
	d, noDesktop := desktop.Connect()
	if noDesktop != nil {
		return err
	}
	defer d.Close()
	return d.Eject(ctx, disk.Path)
}

// powerOff turns off the USB device, unless another of its slots has a card: sysfs's "remove" of a USB device disables
// its port (Documentation/ABI/testing/sysfs-bus-usb).
func powerOff(ctx context.Context, disk disks.Disk) error {
	all, err := here.List()
	if err != nil {
		return err
	}
	for _, other := range all {
		if other.USB != nil && other.USB.Port == disk.USB.Port && other.Name != disk.Name && other.Size > 0 {
			return &inUseError{other.Name}
		}
	}
	err = os.WriteFile(here.path("sys/bus/usb/devices", disk.USB.Port, "remove"), []byte("1"), 0)
	if errors.Is(err, os.ErrPermission) {
		d, noDesktop := desktop.Connect()
		if noDesktop != nil {
			return err
		}
		defer d.Close()
		return d.PowerOff(ctx, disk.Path)
	}
	return err
}
