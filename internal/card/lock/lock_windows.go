// Package lock keeps two runs from working on the same file.
package lock

import (
	"errors"
	"os"

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
