package card

import (
	"os"

	"golang.org/x/sys/unix"
)

// OpenUncached opens a file with O_DIRECT where its file system takes that with an alignment that fits sectors,
// and otherwise through the cache.
func OpenUncached(path string) (*os.File, int, Access, error) {
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_DIRECT, 0)
	if err == nil {
		if sector := directSector(f); sector > 0 {
			return f, sector, Direct, nil
		}
		f.Close()
	}
	f, err = os.OpenFile(path, os.O_RDWR, 0)
	return f, minSector, Dropped, err
}

const minSector, maxSector = 512, 4096

// directSector is the alignment that direct access to the file needs; 0 if it can't be told or is too large.
func directSector(f *os.File) int {
	var st unix.Statx_t
	err := unix.Statx(int(f.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_DIOALIGN, &st)
	if err != nil || st.Mask&unix.STATX_DIOALIGN == 0 || st.Dio_offset_align > maxSector || st.Dio_mem_align > maxSector || st.Dio_offset_align == 0 {
		return 0
	}
	return max(minSector, int(st.Dio_offset_align))
}

// Forget drops the file's pages; they are clean, since it has been flushed.
func Forget(f *os.File) error { return unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) }
