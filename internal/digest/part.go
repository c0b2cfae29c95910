package digest

import "github.com/zeebo/blake3"

// Part is the digest of a part of an image, of one or more blocks: the start of its block's digest, or of the BLAKE3
// digest of its blocks' digests. It tells whether a part is the same; 128 bits are more than enough where nobody makes
// parts up to be taken for each other.
type Part [16]byte

// SumPart is the digest of a part of so many blocks; the last one of an image may have fewer.
func SumPart(blocks []Block, per int) (p Part) {
	if per == 1 {
		copy(p[:], blocks[0][:])
		return p
	}
	h := blake3.New()
	for _, b := range blocks {
		_, _ = h.Write(b[:]) // a hash never fails
	}
	copy(p[:], h.Sum(nil))
	return p
}

// HeadPiece is the length of the pieces in which the first block of an image has digests of its own, bytes: the
// partition table, which the first start of a board changes, is told apart from what is behind it.
const HeadPiece = 64 << 10

// SumHead computes the digests of the pieces of an image's first block; the last one may be shorter.
func SumHead(block []byte) (pieces []Part) {
	for len(block) > 0 {
		n := min(HeadPiece, len(block))
		pieces = append(pieces, SumPart([]Block{SumBlock(block[:n])}, 1))
		block = block[n:]
	}
	return pieces
}
