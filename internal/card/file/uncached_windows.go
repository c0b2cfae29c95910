package file

import (
	"os"
	"path/filepath"
	"unsafe"

	"golang.org/x/sys/windows"

	"zipstamp/internal/card"
)

// maxSector is the largest alignment that sectors of cards have.
const maxSector = 4096

// openUncached opens a file without a cache, whose accesses must then be of whole sectors of the disk below, and
// otherwise through the cache.
func openUncached(path string) (*os.File, int, card.Access, error) {
	if sector := sectorBelow(path); sector > 0 {
		const flags = windows.FILE_FLAG_NO_BUFFERING | windows.FILE_FLAG_WRITE_THROUGH
		if f, err := os.OpenFile(path, os.O_RDWR|flags, 0); err == nil {
			return f, sector, card.Direct, nil
		}
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	return f, minSector, card.Cached, err
}

var diskFreeSpace = windows.NewLazySystemDLL("kernel32.dll").NewProc("GetDiskFreeSpaceW")

// sectorBelow is the sector size of the volume that a file is on, bytes; 0 if it can't be told or is too large.
func sectorBelow(path string) int {
	path, err := filepath.Abs(path)
	if err != nil {
		return 0
	}
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return 0
	}
	root := make([]uint16, len(path)+windows.MAX_PATH)
	if windows.GetVolumePathName(name, &root[0], uint32(len(root))) != nil {
		return 0
	}
	var perCluster, size, free, all uint32
	ok, _, _ := diskFreeSpace.Call(uintptr(unsafe.Pointer(&root[0])), uintptr(unsafe.Pointer(&perCluster)),
		uintptr(unsafe.Pointer(&size)), uintptr(unsafe.Pointer(&free)), uintptr(unsafe.Pointer(&all)))
	if ok == 0 || size > maxSector {
		return 0
	}
	return max(minSector, int(size))
}

// forget has nothing to drop, or can't.
func forget(*os.File) error { return nil }
