package file

import (
	"os"

	"zipstamp/internal/card"

	"golang.org/x/sys/unix"
)

// openUncached opens a file with O_DIRECT where its file system takes that with an alignment that fits sectors,
// and otherwise through the cache.
func openUncached(path string) (*os.File, int, card.Access, error) {
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_DIRECT, 0)
	if err == nil {
		if sector := directSector(f); sector > 0 {
			return f, sector, card.Direct, nil
		}
		f.Close()
	}
	f, err = os.OpenFile(path, os.O_RDWR, 0)
	return f, minSector, card.Dropped, err
}

const maxSector = 4096

// directSector is the alignment that direct access to the file needs; 0 if it can't be told or is too large.
func directSector(f *os.File) int {
	var st unix.Statx_t
	err := unix.Statx(int(f.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_DIOALIGN, &st)
	if err != nil || st.Mask&unix.STATX_DIOALIGN == 0 || st.Dio_offset_align > maxSector ||
		st.Dio_mem_align > maxSector || st.Dio_offset_align == 0 {
		return 0
	}
	return max(minSector, int(st.Dio_offset_align))
}

// forget drops the file's pages; they are clean, since it has been flushed.
func forget(f *os.File) error { return unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) }
