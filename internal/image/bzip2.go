package image

import (
	"bufio"
	"bytes"

	"zipstamp/internal/image/bzip2"
)

// bzip2 has no published specification; its magic is "BZh", the level, and the first block's
// magic, which is the BCD of pi, or of the square root of pi where there is no block.
var bzip2Packing = packing{
	name:    "bzip2",
	endings: []string{".bz2"},
	match: func(head []byte) bool {
		return len(head) >= 10 && bytes.HasPrefix(head, []byte("BZh")) && '1' <= head[3] && head[3] <= '9' &&
			(bytes.Equal(head[4:10], []byte{0x31, 0x41, 0x59, 0x26, 0x53, 0x59}) ||
				bytes.Equal(head[4:10], []byte{0x17, 0x72, 0x45, 0x38, 0x50, 0x90}))
	},
	unpack: func(r *bufio.Reader, s setting) (*layer, error) {
		return plainLayer(bzip2.NewReader(r, s.lanes, trailing), Size{}), nil
	},
}
