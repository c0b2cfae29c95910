package image

import (
	"bytes"
	"io"
	"sync/atomic"
)

// KeepMost is how much of an image is kept in memory, bytes: as much as blocks of xz that are unpacked side by side.
const KeepMost = 256 << 20

// keptPiece is what an image is kept in, bytes. Pieces of zeros take no memory.
const keptPiece = 1 << 20

// keeper keeps what is unpacked, until it is too much.
type keeper struct {
	asked  string // the member
	pieces [][]byte
	last   []byte // what has been filled of a piece
	size   int64
	likely int64 // what size will be, as far as it is known
	kept   int64 // bytes that are in memory
	most   int64 // that may be; below kept: it was too much
}

// tooMuch tells that it was too much, or will be.
func (k *keeper) tooMuch() bool { return k.kept > k.most }

func (k *keeper) add(p []byte) {
	for len(p) > 0 && !k.tooMuch() {
		if k.last == nil {
			k.last = make([]byte, 0, keptPiece)
		}
		n := min(len(p), keptPiece-len(k.last))
		k.last = append(k.last, p[:n]...)
		k.size += int64(n)
		if p = p[n:]; len(k.last) == keptPiece {
			k.end()
		}
	}
}

// end ends a piece.
func (k *keeper) end() {
	if allZero(k.last) {
		k.pieces, k.last = append(k.pieces, nil), k.last[:0]
		return
	}
	k.pieces, k.last = append(k.pieces, k.last), nil
	k.kept += keptPiece
	if k.size >= k.likely/4 && float64(k.kept)*float64(k.likely)/float64(k.size) > 1.5*float64(k.most) {
		k.most = -1 // so it will be too much: what comes is like what was
	}
	if k.tooMuch() {
		k.pieces = nil
	}
}

func allZero(p []byte) bool { return len(bytes.TrimLeft(p, "\x00")) == 0 }

// Kept is an image that was unpacked before, and kept in memory. The download is read beside it, for the tap alone.
type Kept struct {
	keeper *keeper
	packed *packedReader // nil: nobody wants to know
	length int64         // of the download
	at     atomic.Int64
}

// TakeKept gives what the last Unpack of these contents kept, if it was read to its end and came to no more than Keep;
// nil otherwise. It is given once: what has been read from it takes no memory any more. All bytes of the download go
// through tap when it is read to its end; tap may be nil.
func (f *File) TakeKept(c Contents, tap io.Writer) *Kept {
	keeper := f.kept
	f.kept = nil
	if keeper == nil || keeper.asked != c.asked {
		return nil
	}
	k := &Kept{keeper: keeper, length: f.Size}
	if tap != nil {
		k.packed = newPackedReader(f, tap)
	}
	return k
}

// keep keeps what a stream has read.
func (s *Stream) keep(p []byte) {
	k := s.keeper
	if k == nil {
		return
	}
	k.add(p)
	if s.done == io.EOF {
		if k.end(); !k.tooMuch() {
			s.file.kept = k
		}
	}
	if k.tooMuch() || s.done != nil {
		s.keeper = nil
	}
}

// Read reads on. The error is io.EOF at the end, or one of reading the download.
func (k *Kept) Read(p []byte) (int, error) {
	at := k.at.Load()
	n := int(min(int64(len(p)), k.keeper.size-at, keptPiece-at%keptPiece))
	if n > 0 {
		if piece := k.keeper.pieces[at/keptPiece]; piece == nil {
			clear(p[:n])
		} else {
			copy(p[:n], piece[at%keptPiece:])
		}
	}
	return n, k.move(int64(n))
}

// SkipZeros tells whether the next n bytes are whole pieces of zeros, and skips them then. Its error is that of the
// next Read.
func (k *Kept) SkipZeros(n int64) bool {
	at := k.at.Load()
	if at%keptPiece != 0 || n%keptPiece != 0 || n > k.keeper.size-at {
		return false
	}
	for i := at / keptPiece; i < (at+n)/keptPiece; i++ {
		if k.keeper.pieces[i] != nil {
			return false
		}
	}
	_ = k.move(n)
	return true
}

// move goes on by n bytes of the image, forgets what was read, and reads as much of the download.
func (k *Kept) move(n int64) error {
	from := k.at.Load()
	to := from + n
	k.at.Store(to)
	for i := from / keptPiece; i < to/keptPiece; i++ {
		k.keeper.pieces[i] = nil
	}
	if k.packed != nil {
		if _, err := io.CopyN(io.Discard, k.packed, k.Position()-k.packed.Position()); err != nil && err != io.EOF {
			return err
		}
	}
	if to < k.keeper.size {
		return nil
	}
	if k.packed != nil {
		if _, err := io.Copy(io.Discard, k.packed); err != nil {
			return err
		}
	}
	return io.EOF
}

// Position is how much of the download belongs to what was read, bytes, if all of it is packed alike.
func (k *Kept) Position() int64 {
	return int64(float64(k.length) * float64(k.at.Load()) / float64(max(k.keeper.size, 1)))
}

// Close forgets what is kept.
func (k *Kept) Close() error {
	k.keeper.pieces = nil
	return nil
}
