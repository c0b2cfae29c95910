package image

import (
	"bufio"
	"encoding/binary"
	"math"
	"math/bits"

	"github.com/ulikunitz/xz/lzma"
)

// The .lzma format has no magic: a properties byte, the size of the dictionary, and that of the contents, or all ones
// (the "LZMA_Alone" header in the LZMA specification of its authors).
const (
	lzmaPropsMax = 9 * 5 * 5
	lzmaUnknown  = ^uint64(0)
	lzmaDictMin  = 4 << 10
	lzmaSizeMax  = 256 << 30 // what other programs take for a sign that it isn't one
)

var lzmaPacking = packing{
	name:    "lzma",
	endings: []string{".lzma"},
	match: func(head []byte) bool {
		// the first byte of LZMA itself is zero
		return len(head) >= lzma.HeaderLen+5 && head[0] < lzmaPropsMax && head[13] == 0 &&
			lzmaDictFits(binary.LittleEndian.Uint32(head[1:])) && lzmaSizeFits(head) &&
			!isDisk(head)
	},
	look: func(f *File, _ string) (Contents, error) {
		c := Contents{Packing: "lzma"}
		if n := binary.LittleEndian.Uint64(f.head[5:]); n != lzmaUnknown {
			c.Size = Size{int64(n), Exact}
		}
		return c, nil
	},
	unpack: func(r *bufio.Reader, s setting) (*layer, error) {
		head, err := r.Peek(lzma.HeaderLen)
		if err != nil {
			return nil, err
		}
		if dict := int64(binary.LittleEndian.Uint32(head[1:])); dict > windowMax {
			return nil, &UnusableError{Path: s.path, Why: NeedsMemory, Bytes: dict, Most: windowMax}
		}
		l := &layer{unchecked: true}
		if n := binary.LittleEndian.Uint64(head[5:]); n != lzmaUnknown {
			l.size = Size{int64(n), Exact}
		}
		d, err := lzma.NewReader(r)
		if err != nil {
			return nil, err
		}
		l.ReadCloser = plainLayer(d, Size{})
		return l, nil
	},
}

// lzmaDictFits tells the sizes that packers give dictionaries: 2^n, 2^n + 2^(n-1), or the most that there is. The
// library's check is wrong where an int has 32 bits.
func lzmaDictFits(size uint32) bool {
	odd := size >> bits.TrailingZeros32(size)
	return size >= lzmaDictMin && (odd == 1 || odd == 3 || size == math.MaxUint32)
}

func lzmaSizeFits(head []byte) bool {
	n := binary.LittleEndian.Uint64(head[5:])
	return n == lzmaUnknown || n > 0 && n < lzmaSizeMax
}
