//go:build !linux && !darwin

package card

import "os"

// openUncached opens a file; on this system its data go through the cache, and the receipt says so.
func openUncached(path string) (*os.File, int, Access, error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	return f, 512, Cached, err
}

func forget(*os.File) error { return nil }
