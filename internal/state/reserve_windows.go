package state

import (
	"errors"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// Reserve takes room on the disk for the first size bytes of a file, which becomes no longer by that. Where a file
// system can't, nothing is done.
func Reserve(f *os.File, size int64) error {
	const bytes = uint32(unsafe.Sizeof(size))
	err := windows.SetFileInformationByHandle(windows.Handle(f.Fd()), windows.FileAllocationInfo,
		(*byte)(unsafe.Pointer(&size)), bytes)
	if errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL) {
		return err
	}
	return nil
}
