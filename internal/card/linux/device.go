//go:build linux

package linux

import (
	"errors"
	"fmt"
	"time"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card/disks"
)

// number is a device's major and minor number.
type number struct{ major, minor uint32 }

func (n number) String() string { return fmt.Sprintf("%d:%d", n.major, n.minor) }

func numberOf(dev uint64) number { return number{unix.Major(dev), unix.Minor(dev)} }

// ask has the kernel look whether there is a medium. Without the right to open the drive it isn't done; then the system
// looks itself.
func ask(path string) bool {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return false
	}
	unix.Close(fd)
	return true
}

// Held tells whether the kernel refuses exclusive use of a disk. Without the right to open it, it can't be told, and
// needn't: then it can't be written either.
func (Host) Held(d disks.Disk) bool {
	for range 3 {
		fd, err := unix.Open(d.Path, unix.O_RDONLY|unix.O_EXCL|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
		if err == nil {
			unix.Close(fd)
			return false
		}
		if !errors.Is(err, unix.EBUSY) {
			return false
		}
		time.Sleep(20 * time.Millisecond) // another one may only be trying, as this does
	}
	return true
}
