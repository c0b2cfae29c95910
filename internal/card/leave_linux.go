package card

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card/desktop"
	"zipstamp/internal/card/disks"
)

// letGo has the kernel read the partition table again, and ejects.
func (b *block) letGo(ctx context.Context, c *Card, want Leaving) Left {
	var left Left
	switch err := b.rereadTable(ctx, c); {
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENODEV), errors.Is(err, unix.ENXIO):
		// a kernel or a loop device that looks for no partitions, or a card that is gone
	case err != nil:
		left.Problem = fmt.Errorf("the kernel keeps the old partition table of %s until it is put in again: %w", c.Name, err)
	}
	usb := c.Disk.Bus == disks.USB
	if !usb || !want.Eject && !want.PowerOff {
		return left
	}
	if err := b.eject(ctx, c); err != nil {
		left.Problem = fmt.Errorf("%s could not be ejected: %w", c.Name, err)
		return left
	}
	left.Ejected = true
	if want.PowerOff {
		if err := c.powerOff(ctx); err != nil {
			left.Problem = fmt.Errorf("the power of %s could not be turned off: %w", c.Name, err)
			return left
		}
		left.PoweredOff = true
	}
	return left
}

// rereadTable tries a few times: whoever watches the disks may have a partition open for a moment.
func (b *block) rereadTable(ctx context.Context, c *Card) error {
	for try := 0; ; try++ {
		err := unix.IoctlSetInt(int(b.file.Fd()), unix.BLKRRPART, 0)
		if errors.Is(err, unix.EACCES) || errors.Is(err, unix.EPERM) {
			d, noDesktop := desktop.Connect()
			if noDesktop != nil {
				return err
			}
			defer d.Close()
			return d.Rescan(ctx, c.Path)
		}
		if !errors.Is(err, unix.EBUSY) || try == 10 {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// cdromEject is CDROMEJECT (Linux, include/uapi/linux/cdrom.h). Disks of SCSI and USB take it too: the kernel sends START STOP UNIT with LOEJ
// (SBC-4, section 5.31). doorUnlock is SCSI_IOCTL_DOORUNLOCK (include/scsi/scsi_ioctl.h).
const (
	cdromEject = 0x5309
	doorUnlock = 0x5381
)

// eject ejects the medium. The kernel has the drive hold on to it as long as it is open, which some drives take seriously.
func (b *block) eject(ctx context.Context, c *Card) error {
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
	return d.Eject(ctx, c.Path)
}

// powerOff turns off the USB device, unless another of its slots has a card: sysfs's "remove" of a USB device disables its port
// (Documentation/ABI/testing/sysfs-bus-usb).
func (c *Card) powerOff(ctx context.Context) error {
	all, err := All()
	if err != nil {
		return err
	}
	for _, other := range all {
		if other.Disk.USB != nil && other.Disk.USB.Folder == c.Disk.USB.Folder && other.Name != c.Name && other.Size > 0 {
			return fmt.Errorf("the same reader holds %s", other.Name)
		}
	}
	err = os.WriteFile(filepath.Join(c.Disk.USB.Folder, "remove"), []byte("1"), 0)
	if errors.Is(err, os.ErrPermission) {
		d, noDesktop := desktop.Connect()
		if noDesktop != nil {
			return err
		}
		defer d.Close()
		return d.PowerOff(ctx, c.Path)
	}
	return err
}
