package image

import "io"

// RawPacking is the name of the packing of an image that isn't packed.
const RawPacking = "raw"

var rawPacking = packing{
	name:  RawPacking,
	match: func([]byte) bool { return true },
	look: func(f *File, _ string) (Contents, error) {
		return single(RawPacking, Size{f.Size, Exact}, func(r *packedReader) (io.ReadCloser, error) {
			return io.NopCloser(r), nil
		}), nil
	},
}
