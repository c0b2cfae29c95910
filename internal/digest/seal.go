package digest

import (
	"github.com/zeebo/blake3"
)

// BlockSize is the length of the blocks that are sealed, written and read back, in bytes.
const BlockSize = 4 << 20

// Block is the BLAKE3 digest of a block.
type Block [32]byte

// SumBlock computes the digest of a block.
func SumBlock(p []byte) Block { return blake3.Sum256(p) }

// BlockHasher computes the digest of a block whose bytes come in parts.
type BlockHasher struct{ hash *blake3.Hasher }

// NewBlockHasher is ready for a block.
func NewBlockHasher() *BlockHasher { return &BlockHasher{blake3.New()} }

// Write adds bytes.
func (h *BlockHasher) Write(p []byte) { _, _ = h.hash.Write(p) } // a hash never fails

// Sum is the digest of what was added.
func (h *BlockHasher) Sum() (b Block) {
	h.hash.Sum(b[:0])
	return b
}

// Reset makes it ready for another block.
func (h *BlockHasher) Reset() { h.hash.Reset() }

// Seal stands for the contents of a file: the BLAKE3 digest of the digests of its blocks. Two files with
// the same seal have the same bytes, and so the same digest by any other algorithm, at a fraction of
// the work. The zero value is no seal.
type Seal [32]byte

// Sealer computes a Seal, from bytes or from blocks whose digests are at hand already.
// The zero value is ready for use.
type Sealer struct {
	blocks  []byte // digests so far, one after the other
	current *blake3.Hasher
	filled  int // bytes in current
}

// Write adds bytes. It never fails.
func (s *Sealer) Write(p []byte) (int, error) {
	n := len(p)
	if s.current == nil {
		s.current = blake3.New()
	}
	for len(p) > 0 {
		take := min(len(p), BlockSize-s.filled)
		_, _ = s.current.Write(p[:take]) // a hash never fails
		s.filled += take
		p = p[take:]
		if s.filled == BlockSize {
			s.endBlock()
		}
	}
	return n, nil
}

func (s *Sealer) endBlock() {
	s.blocks = s.current.Sum(s.blocks)
	s.current.Reset()
	s.filled = 0
}

// Add adds the digest of a block that follows what was added before. All blocks but the last
// are BlockSize long.
func (s *Sealer) Add(b Block) { s.blocks = append(s.blocks, b[:]...) }

// Seal ends the computation.
func (s *Sealer) Seal() Seal {
	if s.filled > 0 {
		s.endBlock()
	}
	return blake3.Sum256(s.blocks)
}
