package receipt

import (
	"encoding/base64"
	"errors"
	"io"
	"slices"

	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
)

// Blocks are digests of an image's parts, one after the other, by which a card can be checked again without the image.
type Blocks struct {
	Size int64 `json:"size"` // of a part, bytes; the last one may be shorter
	// likewise of the first block, in pieces of 64 KiB, and then of each other block of the first part
	Head string `json:"head,omitempty"`
	// base64 of 16 bytes for each part: the start of its BLAKE3 digest, or, where a part has several blocks of 4 MiB,
	// of that of their digests
	Digests string `json:"digests"`
	// of blocks in which a partition begins or ends, where a part is one block: base64 of 16 bytes for each piece of 64
	// KiB
	Fine []FineBlock `json:"fine,omitempty"`
}

// FineBlock is a block that has digests of its pieces.
type FineBlock struct {
	Block   int    `json:"block"` // its number
	Digests string `json:"digests"`
}

// maxFine is how many blocks have digests of their pieces.
const maxFine = 16

// AddFine adds the digests of the pieces of the blocks in which partitions begin or end, so that what is in one is told
// apart from what is in the next. size is that of the image.
func (b *Blocks) AddFine(t layout.Table, size int64, card io.ReaderAt) error {
	if b == nil || b.Size != digest.BlockSize {
		return nil
	}
	var blocks []int
	for _, p := range t.Parts {
		for _, at := range []int64{p.Start, p.End()} {
			if i := int(at / digest.BlockSize); at%digest.BlockSize != 0 && i > 0 && at < size &&
				!slices.Contains(blocks, i) {
				blocks = append(blocks, i)
			}
		}
	}
	for _, i := range blocks[:min(len(blocks), maxFine)] {
		at := int64(i) * digest.BlockSize
		p := make([]byte, min(digest.BlockSize, size-at))
		if _, err := card.ReadAt(p, at); err != nil {
			return err
		}
		var all []byte
		for _, d := range digest.SumHead(p) {
			all = append(all, d[:]...)
		}
		b.Fine = append(b.Fine, FineBlock{i, base64.StdEncoding.EncodeToString(all)})
	}
	return nil
}

// FineParts gives the digests of pieces, by blocks.
func (b *Blocks) FineParts() map[int][]digest.Part {
	all := map[int][]digest.Part{}
	for _, f := range b.Fine[:min(len(b.Fine), maxFine)] {
		if parts, err := partsOf(f.Digests); err == nil && f.Block > 0 {
			all[f.Block] = parts
		}
	}
	return all
}

// maxParts is how many parts there are at most, so that a receipt doesn't grow with the image.
const maxParts = 4096

// BlocksOf lists the digests of an image's blocks, and those of the pieces of the first one.
func BlocksOf(blocks []digest.Block, head []digest.Part) *Blocks {
	if len(blocks) == 0 {
		return nil
	}
	per := 1
	for (len(blocks)+per-1)/per > maxParts {
		per *= 2
	}
	var all []byte
	for i := 0; i < len(blocks); i += per {
		d := digest.SumPart(blocks[i:min(i+per, len(blocks))], per)
		all = append(all, d[:]...)
	}
	var first []byte
	if len(head) > 0 {
		for _, b := range blocks[1:min(per, len(blocks))] {
			head = append(slices.Clip(head), digest.SumPart([]digest.Block{b}, 1))
		}
	}
	for _, d := range head {
		first = append(first, d[:]...)
	}
	return &Blocks{
		Size: int64(per) * digest.BlockSize, Head: base64.StdEncoding.EncodeToString(first),
		Digests: base64.StdEncoding.EncodeToString(all),
	}
}

// errBlocks says that what a receipt has can't be used.
var errBlocks = errors.New("the receipt's digests of blocks make no sense")

// Parts gives the digests of all parts, and those of what the first one consists of.
func (b *Blocks) Parts() (parts, head []digest.Part, err error) {
	if b.Size <= 0 || b.Size%digest.BlockSize != 0 || b.Size > 1<<40 {
		return nil, nil, errBlocks
	}
	if parts, err = partsOf(b.Digests); err == nil {
		head, err = partsOf(b.Head)
	}
	return parts, head, err
}

func partsOf(text string) (all []digest.Part, err error) {
	bytes, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(bytes)%len(digest.Part{}) != 0 {
		return nil, errBlocks
	}
	for ; len(bytes) > 0; bytes = bytes[len(digest.Part{}):] {
		all = append(all, digest.Part(bytes))
	}
	return all, nil
}
