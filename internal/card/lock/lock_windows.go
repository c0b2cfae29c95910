// Package lock keeps two runs from working on the same file.
package lock

import (
	"errors"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/windows"

	"zipstamp/internal/card/fault"
)

// ErrHeld says that another program holds the lock.
var ErrHeld = errors.New("another program is working on it")

// Take locks f until it is closed, for programs that ask too. It doesn't wait: ErrHeld, which is of the kind
// fault.Busy, says that another has it. Locks are mandatory here, so the byte that is locked lies far beyond any data.
func Take(f *os.File) error { return try(f, windows.LOCKFILE_EXCLUSIVE_LOCK) }

// Share locks f as Take does, but beside others who share it.
func Share(f *os.File) error { return try(f, 0) }

func try(f *os.File, how uint32) error {
	beyond := windows.Overlapped{OffsetHigh: 1 << 30}
	err := windows.LockFileEx(windows.Handle(f.Fd()), how|windows.LOCKFILE_FAIL_IMMEDIATELY,
		0, 1, 0, &beyond)
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
		return fault.Busy.Because(ErrHeld)
	}
	return err
}

// Remove has a file removed that is locked, and closes it: before that, since what is open can't be removed here. If
// another run opens it in between, it stays.
func Remove(f *os.File, remove func() error) error { return errors.Join(f.Close(), remove()) }

// youth is how long a file counts as new.
const youth = 10 * time.Second

// Young tells whether a file is so new that another run may just be making it: here, a file must be closed before it is
// removed, and so that run could get its lock in between.
func Young(info fs.FileInfo) bool { return time.Since(info.ModTime()) < youth }

// Tries to do something with a file that another run may just be reading, and how long apart.
const (
	tries = 40
	pause = 50 * time.Millisecond
)

// Patiently does something with a file that nothing else may have open here, and tries again for 2 s where another run
// has.
func Patiently(do func() error) (err error) {
	for range tries {
		if err = do(); !errors.Is(err, windows.ERROR_SHARING_VIOLATION) {
			return err
		}
		time.Sleep(pause)
	}
	return err
}
