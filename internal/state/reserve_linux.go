package state

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Reserve takes room on the disk for the first size bytes of a file, which becomes no longer by that. Where a file
// system can't, nothing is done.
func Reserve(f *os.File, size int64) error {
	err := unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_KEEP_SIZE, 0, size)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOSYS) {
		return nil
	}
	return err
}
