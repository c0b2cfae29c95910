package file

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// Number is the number of a file on its file system, and when the file was made, where that is known: a number may be
// given again. It stays over restarts, which the number of the file system may not. Empty if the file isn't there.
func Number(path string) string {
	var st unix.Statx_t
	if unix.Statx(unix.AT_FDCWD, path, 0, unix.STATX_INO|unix.STATX_BTIME, &st) != nil || st.Mask&unix.STATX_INO == 0 {
		return ""
	}
	if st.Mask&unix.STATX_BTIME == 0 {
		return fmt.Sprint(st.Ino)
	}
	return fmt.Sprintf("%d:%d.%09d", st.Ino, st.Btime.Sec, st.Btime.Nsec)
}
