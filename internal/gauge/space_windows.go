package gauge

import "golang.org/x/sys/windows"

// freeSpace is how much the user may still write to the file system that a folder is on, bytes.
func freeSpace(folder string) (int64, error) {
	path, err := windows.UTF16PtrFromString(folder)
	if err != nil {
		return 0, err
	}
	var free uint64
	err = windows.GetDiskFreeSpaceEx(path, &free, nil, nil)
	return int64(free), err
}

// deviceUnder isn't known here.
func deviceUnder(string) string { return "" }
