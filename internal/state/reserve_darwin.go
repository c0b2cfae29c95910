package state

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Reserve takes room on the disk for the first size bytes of a file, which becomes no longer by that. Where a file
// system can't, nothing is done.
func Reserve(f *os.File, size int64) error {
	info, err := f.Stat()
	if err != nil || info.Size() >= size {
		return err
	}
	err = unix.FcntlFstore(f.Fd(), unix.F_PREALLOCATE, &unix.Fstore_t{
		Flags: unix.F_ALLOCATEALL, Posmode: unix.F_PEOFPOSMODE, Length: size - info.Size(),
	})
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EINVAL) {
		return nil
	}
	return err
}
