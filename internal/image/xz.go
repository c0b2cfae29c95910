package image

import (
	"bufio"
	"errors"
	"io"

	"zipstamp/internal/image/xz"
)

var xzPacking = packing{
	name:    "xz",
	endings: []string{".xz"},
	match:   xz.Match,
	look: func(f *File, _ string) (Contents, error) {
		index, err := xz.ReadIndex(f.file, f.Size)
		var wrong *xz.Error
		if errors.As(err, &wrong) {
			return Contents{}, &DamageError{At: wrong.At, Truncated: errors.Is(err, io.ErrUnexpectedEOF), Err: wrong.Err}
		}
		return Contents{Packing: "xz", Size: Size{index.Unpacked, Exact}, index: &index}, err
	},
	unpack: func(r *bufio.Reader, s setting) (*layer, error) {
		return plainLayer(xz.NewReader(r, xz.Options{Lanes: s.lanes, Index: s.index}), Size{}), nil
	},
}
