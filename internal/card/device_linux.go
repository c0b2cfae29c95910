package card

import (
	"errors"
	"time"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card/disks"
)

// deviceNumber is the number of the block device at path.
func deviceNumber(path string) (disks.Number, bool) {
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil || st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return disks.Number{}, false
	}
	return disks.Number{Major: unix.Major(st.Rdev), Minor: unix.Minor(st.Rdev)}, true
}

// ask has the kernel look whether there is a medium. Without the right to open the drive it isn't done; then the system looks itself.
func ask(path string) bool {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return false
	}
	unix.Close(fd)
	return true
}

// held tells whether the kernel refuses exclusive use of a disk. Without the right to open it, it can't be told, and needn't: then it
// can't be written either.
func held(path string) bool {
	for range 3 {
		fd, err := unix.Open(path, unix.O_RDONLY|unix.O_EXCL|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
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

func isNoMedium(err error) bool { return errors.Is(err, unix.ENOMEDIUM) }
