package state

import (
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// Reserve takes room on the disk for the first size bytes of a file, which becomes no longer by that.
func Reserve(f *os.File, size int64) error {
	const bytes = uint32(unsafe.Sizeof(size))
	return windows.SetFileInformationByHandle(windows.Handle(f.Fd()), windows.FileAllocationInfo,
		(*byte)(unsafe.Pointer(&size)), bytes)
}
