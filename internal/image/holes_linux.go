package image

import (
	"errors"
	"math"
	"os"

	"golang.org/x/sys/unix"
)

// dataFrom is where the next data of a file are from a place on, bytes; at where that isn't known.
func dataFrom(f *os.File, at int64) int64 {
	next, err := f.Seek(at, unix.SEEK_DATA)
	switch {
	case errors.Is(err, unix.ENXIO): // none
		return math.MaxInt64
	case err != nil:
		return at
	}
	return next
}
