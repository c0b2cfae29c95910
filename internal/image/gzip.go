package image

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"slices"

	"github.com/klauspost/compress/gzip"
)

var gzipPacking = packing{
	name:    "gzip",
	endings: []string{".gz"},
	kind:    FileGzip,
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
		d.Multistream(false)
		return plainLayer(&gzipMembers{d, r}, Size{}), nil
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

// gzipMembers reads one member after the other. Zeros behind the last are no part of it: they come from copying by
// blocks.
type gzipMembers struct {
	*gzip.Reader
	from *bufio.Reader
}

func (g *gzipMembers) Read(p []byte) (int, error) {
	for {
		n, err := g.Reader.Read(p)
		if n > 0 || err != io.EOF {
			if err == io.EOF {
				err = nil
			}
			return n, err
		}
		if start, _ := g.from.Peek(2); !bytes.Equal(start, []byte{0x1f, 0x8b}) {
			return 0, trailing(g.from)
		}
		if err := g.Reset(g.from); err != nil {
			return 0, early(err)
		}
		g.Multistream(false)
	}
}

// trailing reads what follows the end of a packed stream: io.EOF if that is nothing, or only zeros.
func trailing(r io.Reader) error {
	var count int64
	foreign := false
	buf := make([]byte, 32<<10)
	for {
		n, err := r.Read(buf)
		count += int64(n)
		foreign = foreign || slices.ContainsFunc(buf[:n], func(b byte) bool { return b != 0 })
		switch {
		case err == io.EOF && foreign:
			return &trailingError{count}
		case err != nil:
			return err
		}
	}
}

// trailingError says that bytes follow which don't belong to a packed stream.
type trailingError struct{ count int64 }

func (e *trailingError) Error() string {
	if e.count == 1 {
		return "1 byte that does not belong to it follows its end"
	}
	return fmt.Sprintf("%d bytes that do not belong to it follow its end", e.count)
}
