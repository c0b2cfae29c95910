//go:build linux

package linux

import (
	"context"
	"errors"
	"io"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/fault"
)

// block is a block device opened exclusively (O_EXCL: nothing of it is mounted, and nothing else has it)
// and, where the driver can, directly (O_DIRECT).
type block struct {
	file   *os.File
	size   int64
	sector int
	access card.Access
}

func openBlock(path string, flags int) (*block, error) {
	flags |= unix.O_CLOEXEC
	access := card.Direct
	f, err := os.OpenFile(path, flags|unix.O_DIRECT, 0)
	if errors.Is(err, unix.EINVAL) {
		access = card.Dropped
		f, err = os.OpenFile(path, flags, 0)
	}
	if err != nil {
		return nil, err
	}
	b := &block{file: f, access: access}
	err = b.measure()
	if errors.Is(err, unix.EROFS) && flags&os.O_RDWR == 0 {
		err = nil
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return b, nil
}

func (b *block) measure() (err error) {
	if b.size, err = b.file.Seek(0, io.SeekEnd); err != nil {
		return err
	}
	if b.sector, err = unix.IoctlGetInt(int(b.file.Fd()), unix.BLKSSZGET); err != nil {
		return os.NewSyscallError("BLKSSZGET", err)
	}
	readOnly, err := unix.IoctlGetInt(int(b.file.Fd()), unix.BLKROGET)
	if err == nil && readOnly != 0 {
		return unix.EROFS
	}
	return err
}

func (b *block) Size() int64         { return b.size }
func (b *block) SectorSize() int     { return b.sector }
func (b *block) Access() card.Access { return b.access }
func (b *block) Close() error        { return b.file.Close() }

// ReadAt reads whole sectors. A device whose medium was taken out reads nothing without an error.
func (b *block) ReadAt(p []byte, off int64) (int, error) {
	n, err := b.file.ReadAt(p, off)
	if errors.Is(err, io.EOF) {
		err = unix.ENODEV
	}
	return n, fault.Of(err)
}

// WriteAt writes whole sectors. "No space left" within the device means that the medium was taken out, unless
// it can still be read: then what lies below the device is full.
func (b *block) WriteAt(p []byte, off int64) (int, error) {
	n, err := b.file.WriteAt(p, off)
	if errors.Is(err, unix.ENOSPC) && !b.readable() {
		err = unix.ENODEV
	}
	return n, fault.Of(err)
}

// readable tells whether the first sectors can be read.
func (b *block) readable() bool {
	pool, err := card.NewPool(1, maxSector)
	if err != nil {
		return false
	}
	defer pool.Close()
	buf, err := pool.Get(context.Background())
	if err == nil {
		_, err = b.file.ReadAt(buf, 0)
	}
	return err == nil
}

// Flush has the kernel empty its cache of the device, and the device its own.
func (b *block) Flush() error { return fault.Of(b.file.Sync()) }

// Forget drops what the kernel keeps of the device. With direct access there is nothing, but for what others
// may have read.
func (b *block) Forget() error {
	fd := int(b.file.Fd())
	if err := unix.IoctlSetInt(fd, unix.BLKFLSBUF, 0); err != nil && !errors.Is(err, unix.EACCES) {
		return fault.Of(err)
	}
	return fault.Of(unix.Fadvise(fd, 0, 0, unix.FADV_DONTNEED))
}

// Discard has the kernel tell the device that it needn't keep a stretch, if its driver can.
func (b *block) Discard(off, length int64) error {
	stretch := [2]uint64{uint64(off), uint64(length)}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, b.file.Fd(), unix.BLKDISCARD, uintptr(unsafe.Pointer(&stretch)))
	switch errno {
	case 0:
		return nil
	case unix.EOPNOTSUPP, unix.ENOTTY, unix.EINVAL:
		return errors.ErrUnsupported
	}
	return fault.Of(errno)
}

// maxSector is the largest logical sector that is met, bytes.
const maxSector = 4096

// Present tells whether the device still has its size, and the kernel still knows it.
func (b *block) Present() bool {
	size, err := b.file.Seek(0, io.SeekEnd)
	if err != nil || size != b.size {
		return false
	}
	var st unix.Stat_t
	if unix.Fstat(int(b.file.Fd()), &st) != nil {
		return false
	}
	_, err = os.Stat(kernelFolder(numberOf(st.Rdev)))
	return err == nil
}

// kernelFolder is what the kernel has of a device as long as it is there.
func kernelFolder(n number) string { return "/sys/dev/block/" + n.String() }

// is tells whether what was opened is the disk that was found, with the same medium.
func (b *block) is(d disks.Disk) bool {
	var st unix.Stat_t
	if unix.Fstat(int(b.file.Fd()), &st) != nil || numberOf(st.Rdev).String() != d.Key || b.size != d.Size {
		return false
	}
	seq, ok := b.sequence()
	return !ok || sequenceIn(d.Insertion) == 0 || sequenceIn(d.Insertion) == seq
}
