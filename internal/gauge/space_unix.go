//go:build unix

package gauge

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// freeSpace is how much the user may still write to the file system that a folder is on, bytes.
func freeSpace(folder string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(folder, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}

// deviceUnder is the kernel's folder for the disk that a folder is on; empty where that isn't known, as on other systems than Linux, or where the file system has a number of
// its own.
func deviceUnder(folder string) string {
	var st unix.Stat_t
	if err := unix.Stat(folder, &st); err != nil {
		return ""
	}
	path := fmt.Sprintf("/sys/dev/block/%d:%d", unix.Major(uint64(st.Dev)), unix.Minor(uint64(st.Dev)))
	if _, err := os.Stat(path); err != nil {
		return ""
	}
	return path
}
