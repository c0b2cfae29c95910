package image

import (
	"io"
)

// packing is a way in which images are packed. To add one, write its file and a line in packings.
type packing struct {
	name    string // as people call it
	endings []string
	match   func(head []byte) bool

	// look reads what the packed file says of itself, without unpacking. member is the name that the
	// user asked for, or empty.
	look func(f *File, member string) (Contents, error)
}

// packings are tried in this order; the last one takes everything.
var packings = []packing{xzPacking, gzipPacking, zstdPacking, bzip2Packing, zipPacking, rawPacking}

// Contents is what a packed file says of itself.
type Contents struct {
	Packing string
	Member  string // the image's name within an archive; empty where there is only one stream
	Size    Size

	// offset is where the packed stream starts in the file, and decode unpacks it, reading no more than
	// it needs. Errors of decode and of its reader are about the bytes, unless they come from r.
	offset int64
	decode func(r *packedReader) (io.ReadCloser, error)
}

// Size is how large an image is when unpacked.
type Size struct {
	Bytes     int64
	Certainty Certainty
}

// Certainty tells how far a size can be relied on before the image has been unpacked.
type Certainty uint8

// How sure a size is. A Hint comes from a field that may be wrong in files that are right, such as
// gzip's length, which counts modulo 4 GiB.
const (
	Unknown Certainty = iota
	Hint
	Exact
)

// single is Contents of a packing that holds one stream and starts with the file.
func single(name string, size Size, decode func(r *packedReader) (io.ReadCloser, error)) Contents {
	return Contents{Packing: name, Size: size, decode: decode}
}

// Known is the size in bytes if it is exact, and 0 otherwise.
func (s Size) Known() int64 {
	if s.Certainty == Exact {
		return s.Bytes
	}
	return 0
}

// Likely is the size in bytes if it is exact, or a hint that makes sense beside the download's size; 0 otherwise. It
// is good enough to show progress.
func (s Size) Likely(download int64) int64 {
	if s.Certainty == Hint && s.Bytes < download {
		return 0
	}
	return s.Bytes
}
