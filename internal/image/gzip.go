package image

import (
	"bufio"
	"bytes"
	"encoding/binary"

	"github.com/klauspost/compress/gzip"
)

var gzipPacking = packing{
	name:    "gzip",
	endings: []string{".gz"},
	// RFC 1952 section 2.3.1: ID1, ID2, and the only method, deflate.
	match: func(head []byte) bool { return bytes.HasPrefix(head, []byte{0x1f, 0x8b, 8}) },
	look: func(f *File, _ string) (Contents, error) {
		return Contents{Packing: "gzip", Size: gzipSize(f)}, nil
	},
	unpack: func(r *bufio.Reader, _ setting) (*layer, error) {
		d, err := gzip.NewReader(r)
		if err != nil {
			return nil, err
		}
		return plainLayer(d, Size{}), nil
	},
}

// gzipSize reads ISIZE (RFC 1952 section 2.3.1), the length of the last member modulo 2^32. It is
// no more than the length of the whole unless the file has trailing bytes or is cut short.
func gzipSize(f *File) Size {
	var isize [4]byte
	if _, err := f.file.ReadAt(isize[:], max(f.Size-4, 0)); err != nil {
		return Size{}
	}
	return Size{int64(binary.LittleEndian.Uint32(isize[:])), AtLeast}
}
