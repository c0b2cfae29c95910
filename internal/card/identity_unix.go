//go:build unix

package card

import (
	"fmt"
	"os"
	"syscall"
)

// fileNumber is the number of a file on its file system; empty if it isn't there.
func fileNumber(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprintf("%d:%d", st.Dev, st.Ino)
	}
	return ""
}
