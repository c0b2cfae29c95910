package xz

import (
	"errors"
	"io"
)

// NewLZMA2Reader unpacks bare LZMA2, as other formats hold it, with a dictionary of dict bytes. unpacked is the size of
// the contents, or -1 if it isn't known. Errors are those of r, io.ErrUnexpectedEOF, or one that says that the data are
// not well formed. It needs no closing.
func NewLZMA2Reader(r Source, dict, unpacked int64) io.Reader {
	b := &bare{r: r}
	b.z.prepare(dict, unpacked, false)
	return b
}

type bare struct {
	r    Source
	z    lzma2
	left []byte
	err  error
}

func (b *bare) Read(p []byte) (int, error) {
	for len(b.left) == 0 {
		if b.err != nil {
			return 0, b.err
		}
		b.left = b.left[:0]
		end, err := b.z.step(b.r, func(p []byte) error {
			b.left = append(b.left, p...)
			return nil
		})
		switch {
		case errors.Is(err, io.EOF):
			b.err = io.ErrUnexpectedEOF
		case err != nil:
			b.err = err
		case end:
			b.err = io.EOF
		}
	}
	n := copy(p, b.left)
	b.left = b.left[n:]
	return n, nil
}
