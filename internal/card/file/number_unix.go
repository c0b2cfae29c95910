//go:build unix && !linux

package file

import (
	"os"
	"strconv"
	"syscall"
)

// Number is the number of a file on its file system; empty if it isn't there.
func Number(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return strconv.FormatUint(uint64(st.Ino), 10)
	}
	return ""
}
