package card

import (
	"errors"
	"fmt"
	"io"
)

// NewReader reads any bytes of a device, which is read in sectors. It is for one goroutine; done, which may be nil, is
// called when it is closed.
func NewReader(d Device, done func() error) (Reader, error) {
	piece, err := alignedBuffer(readPiece)
	if err != nil {
		return nil, fmt.Errorf("get memory: %w", err)
	}
	return &unaligned{Device: d, done: done, piece: piece, at: -1}, nil
}

// readPiece is what is read of a device at once, bytes; a multiple of any sector.
const readPiece = 64 << 10

// unaligned reads any bytes of a device that is read in sectors.
type unaligned struct {
	Device
	done  func() error
	piece []byte
	at    int64 // of the piece that was read last; -1 before the first
	n     int
}

// Close frees the buffer, and calls done.
func (u *unaligned) Close() error {
	freeBuffer(u.piece)
	u.piece = nil
	if u.done == nil {
		return nil
	}
	return u.done()
}

func (u *unaligned) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := (off + int64(done)) / readPiece * readPiece
		if at >= u.Size() {
			return done, io.EOF
		}
		if at != u.at {
			n := min(readPiece, u.Size()-at)
			if _, err := u.Device.ReadAt(u.piece[:n], at); err != nil && !errors.Is(err, io.EOF) {
				return done, fmt.Errorf("read at byte %d: %w", at, err)
			}
			u.at, u.n = at, int(n)
		}
		from := int(off + int64(done) - at)
		if from >= u.n {
			return done, io.EOF
		}
		done += copy(p[done:], u.piece[from:u.n])
	}
	return done, nil
}
