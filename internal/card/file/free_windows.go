package file

import "golang.org/x/sys/windows"

// Free is how much the user may still write to the file system that a folder is on, bytes.
func Free(folder string) (int64, error) {
	path, err := windows.UTF16PtrFromString(folder)
	if err != nil {
		return 0, err
	}
	var free uint64
	err = windows.GetDiskFreeSpaceEx(path, &free, nil, nil)
	return int64(free), err
}
