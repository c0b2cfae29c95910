package image

import "bufio"

// RawPacking is the name of the packing of an image that isn't packed.
const RawPacking = "raw"

var rawPacking = packing{
	name:  RawPacking,
	match: func([]byte) bool { return true },
	look: func(f *File, _ string) (Contents, error) {
		return Contents{Packing: RawPacking, Size: Size{f.Size, Exact}}, nil
	},
	unpack: func(r *bufio.Reader, _ setting) (*layer, error) {
		l := plainLayer(r, Size{})
		l.unchecked = true
		return l, nil
	},
}
