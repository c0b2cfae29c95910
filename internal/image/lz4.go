package image

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"
	"math"

	"github.com/pierrec/lz4/v4"
)

// Constants of the LZ4 frame format, version 1.6.4, and of the older one that some boot loaders use.
const (
	lz4Magic       = 0x184D2204
	lz4LegacyMagic = 0x184C2102
	lz4SizeAt      = 6      // "Content Size", if it is there
	lz4Sized       = 1 << 3 // FLG, "Content Size flag"
	lz4Checksummed = 1 << 2 // FLG, "Content Checksum flag"
	lz4BlockSums   = 1 << 4 // FLG, "Block Checksum flag"
)

var lz4Packing = packing{
	name:    "lz4",
	endings: []string{".lz4"},
	kind:    FileLZ4,
	match: func(head []byte) bool {
		if len(head) < 7 {
			return false
		}
		magic := binary.LittleEndian.Uint32(head)
		return magic == lz4Magic || magic == lz4LegacyMagic
	},
	unpack: func(r *bufio.Reader, _ setting) (*layer, error) {
		head, err := r.Peek(lz4SizeAt + 8)
		if err != nil {
			return nil, err
		}
		framed, flags := binary.LittleEndian.Uint32(head) == lz4Magic, head[4]
		l := &layer{unchecked: !framed || flags&(lz4Checksummed|lz4BlockSums) == 0}
		if n := binary.LittleEndian.Uint64(head[lz4SizeAt:]); framed && flags&lz4Sized != 0 && n < math.MaxInt64 {
			l.size = Size{int64(n), AtLeast} // other frames may follow
		}
		d := lz4.NewReader(r)
		l.ReadCloser = io.NopCloser(&lz4Frames{d, r})
		return l, nil
	},
}

// lz4Frames reads frames that follow each other; the library ends after each.
type lz4Frames struct {
	d *lz4.Reader
	r *bufio.Reader
}

func (f *lz4Frames) Read(p []byte) (int, error) {
	for {
		n, err := f.d.Read(p)
		if err != io.EOF || n > 0 {
			if err == io.EOF {
				err = nil
			}
			return n, err
		}
		if _, err := f.r.Peek(1); errors.Is(err, io.EOF) {
			return 0, io.EOF
		}
		f.d.Reset(f.r)
	}
}
