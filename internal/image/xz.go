package image

import (
	"bufio"
	"errors"
	"fmt"
	"io"

	"zipstamp/internal/image/xz"
)

var xzPacking = packing{
	name:    "xz",
	endings: []string{".xz"},
	kind:    FileXZ,
	match:   xz.Match,
	look: func(f *File, _ string) (Contents, error) {
		index, err := xz.ReadIndex(f.file, f.Size)
		if err != nil {
			return Contents{}, errXZ(err)
		}
		return Contents{
			Packing: "xz", Size: Size{index.Unpacked, Exact}, blocks: xzBlocks{&index},
			start: func(r *packedReader, s setting) (*layer, error) { return unpackXZ(r.Reader, s.lanes, &index), nil },
		}, nil
	},
	unpack: func(r *bufio.Reader, s setting) (*layer, error) { return unpackXZ(r, s.lanes, nil), nil },
}

func unpackXZ(r *bufio.Reader, lanes int, index *xz.Index) *layer {
	return plainLayer(xzReader{xz.NewReader(r, xz.Options{Lanes: lanes, Index: index})}, Size{})
}

// xzReader says in this package's words what is wrong.
type xzReader struct{ io.ReadCloser }

func (x xzReader) Read(p []byte) (int, error) {
	n, err := x.ReadCloser.Read(p)
	return n, errXZ(err)
}

func errXZ(err error) error {
	var unsupported *xz.UnsupportedError
	var wrong *xz.Error
	switch {
	case errors.As(err, &unsupported) && unsupported.Dict > 0:
		return &UnusableError{Why: NeedsMemory, Bytes: unsupported.Dict, Most: unsupported.DictMax}
	case errors.As(err, &unsupported):
		return &UnusableError{Why: UnknownFilter, Method: fmt.Sprintf("0x%X", unsupported.Filter)}
	case errors.As(err, &wrong):
		return &placedError{"xz", wrong.At, wrong.Err}
	}
	return err
}

// xzBlocks are the blocks of an xz file.
type xzBlocks struct{ *xz.Index }

func (x xzBlocks) Count() int64 { return x.Blocks }

func (x xzBlocks) Open(from io.ReaderAt, block int) io.ReadCloser {
	return xzReader{xz.NewBlockReader(from, x.Index, block)}
}
