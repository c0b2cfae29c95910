//go:build unix

package file

import "golang.org/x/sys/unix"

// Free is how much the user may still write to the file system that a folder is on, bytes.
func Free(folder string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(folder, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}
