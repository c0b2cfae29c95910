package image

import (
	"bufio"
	"io"
	"slices"
)

// packing is a way in which images are packed. To add one, write its file and a line in packings.
//
// A packing may hold another: an archive an image that is packed, a compressed file an archive. Those with unpack are
// recognised and unpacked wherever they stand, as streams; the others need to go about in a file.
type packing struct {
	name    string // as people call it
	endings []string
	match   func(head []byte) bool

	// kind is what it is where it stands in place of an image; empty: nothing that has a name of its own.
	kind StrangerKind

	// archive tells that what comes out is a member, under a name of its own.
	archive bool

	// total is how long a file is by its own account, for one that is cut short. nil: it doesn't say.
	total func(head []byte) Size

	// look reads what a file says of itself, without unpacking more than it must. nil: nothing beyond what
	// unpack finds.
	look func(f *File, member string) (Contents, error)

	// unpack starts to unpack a stream. It reads no more than it needs.
	unpack func(r *bufio.Reader, s setting) (*layer, error)

	// walk goes through the members of an archive that is a stream, members through those of one that is a file. An
	// archive has one of them.
	walk    func(r *bufio.Reader) walker
	members func(r *packedReader) (walker, error)
}

// packings are tried in this order; the last one takes everything.
var packings []packing

// Archives look into their members, which may be packed in any way, so the table can't be made in one piece.
func init() {
	packings = []packing{
		xzPacking, gzipPacking, zstdPacking, bzip2Packing, lz4Packing, sparsePacking, zipPacking, sevenZipPacking,
		tarPacking, lzmaPacking, rawPacking,
	}
}

// packingNamed is the packing with a name.
func packingNamed(name string) packing {
	return packings[slices.IndexFunc(packings, func(p packing) bool { return p.name == name })]
}

// packingOf is the packing that a head shows.
func packingOf(head []byte) packing {
	for _, p := range packings {
		if p.match(head) {
			return p
		}
	}
	panic("unreachable: the last packing takes everything")
}

// setting is how to unpack.
type setting struct {
	path   string // of the file, for messages
	member string // the image asked for within an archive; empty if none is
	lanes  int    // how many blocks may be unpacked side by side
	limit  int64  // bytes that any stream may unpack to
	any    bool   // what comes out needn't be an image
}

// layer is a packing being unpacked.
type layer struct {
	io.ReadCloser        // what is in it
	member        string // within an archive
	size          Size
	most          int  // bytes that come out at most, where they are at hand; 0: not known
	unchecked     bool // the packing has no check values of its own, so that damage may go unseen

	// skipZeros tells whether the next n bytes are zeros, and skips them then; nil where the packing doesn't say so
	skipZeros func(n int64) bool
}

// plainLayer is a layer without more to say.
func plainLayer(r io.Reader, size Size) *layer {
	if c, ok := r.(io.ReadCloser); ok {
		return &layer{ReadCloser: c, size: size}
	}
	return &layer{ReadCloser: io.NopCloser(r), size: size}
}

// Contents is what a packed file says of itself.
type Contents struct {
	Packing    string // of all layers, the innermost first: "xz", "tar in xz"
	Member     string // the image's name within an archive; empty where there is only one stream
	Size       Size   // of the image
	Unchecked  bool   // no packing that it is in has check values, so that damage may go unseen
	Recognised bool   // the image starts with a partition table or file system

	start func(r *packedReader, s setting) (*layer, error) // unpacks the outermost layer
	// of a file whose parts can be unpacked by themselves; nil for others
	blocks blockIndex
	asked  string // the member that was asked for
}

// blockIndex knows the parts of a packed file that can be unpacked by themselves.
type blockIndex interface {
	Count() int64
	// the block that has a byte of the image, and where in the image it starts
	Find(off int64) (block int, start int64, ok bool)
	// unpacks a block; its errors are *placedError, or those of reading
	Open(from io.ReaderAt, block int) io.ReadCloser
}

// Size is how large an image is when unpacked.
type Size struct {
	Bytes     int64
	Certainty Certainty
}

// Certainty tells how far a size can be relied on before the image has been unpacked.
type Certainty uint8

// How sure a size is. A lower bound is, for instance, gzip's length, which counts modulo 4 GiB; a file that is cut
// short may have less.
const (
	Unknown Certainty = iota
	AtLeast
	Exact
)

func (c Certainty) String() string { return [...]string{"unknown", "lower bound", "exact"}[c] }

// Known is the size in bytes if it is exact, and 0 otherwise.
func (s Size) Known() int64 {
	if s.Certainty == Exact {
		return s.Bytes
	}
	return 0
}

// Likely is the size in bytes if it is exact, or a lower bound that makes sense beside the download's size; 0
// otherwise. It is good enough to show progress.
func (s Size) Likely(download int64) int64 {
	if s.Certainty == AtLeast && s.Bytes < download {
		return 0
	}
	return s.Bytes
}
