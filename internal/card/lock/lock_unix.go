//go:build unix

// Package lock keeps two runs from working on the same file.
package lock

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card/fault"
)

// ErrHeld says that another program holds the lock.
var ErrHeld = errors.New("another program is working on it")

// Take locks f until it is closed, for programs that ask too. It doesn't wait: ErrHeld, which is of the kind
// fault.Busy, says that another has it.
func Take(f *os.File) error {
	return try(f, unix.LOCK_EX)
}

// Share locks f as Take does, but beside others who share it.
func Share(f *os.File) error { return try(f, unix.LOCK_SH) }

func try(f *os.File, how int) error {
	err := unix.Flock(int(f.Fd()), how|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return fault.Busy.Because(ErrHeld)
	}
	return err
}

// Remove has a file removed that is locked, and closes it.
func Remove(f *os.File, remove func() error) error { return errors.Join(remove(), f.Close()) }

// Young tells whether a file is so new that another run may just be making it, where that matters: not here.
func Young(fs.FileInfo) bool { return false }

// Patiently does something with a file that another run may have open. Here, that is no hindrance.
func Patiently(do func() error) error { return do() }
