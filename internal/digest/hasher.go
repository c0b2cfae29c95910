package digest

import (
	"hash"
	"sync"
)

// Hasher computes digests by several algorithms over one stream, each on its own core.
// It is an io.Writer that never fails.
type Hasher struct {
	algorithms []Algorithm
	hashes     []hash.Hash
}

// NewHasher computes by each of algorithms; one given twice is computed once.
func NewHasher(algorithms ...Algorithm) *Hasher {
	h := &Hasher{}
	seen := map[Algorithm]bool{}
	for _, a := range algorithms {
		if !seen[a] {
			seen[a] = true
			h.algorithms = append(h.algorithms, a)
			h.hashes = append(h.hashes, a.New())
		}
	}
	return h
}

// Write adds p to all digests, and returns when all have taken it.
func (h *Hasher) Write(p []byte) (int, error) {
	if len(h.hashes) == 1 {
		return h.hashes[0].Write(p)
	}
	var all sync.WaitGroup
	for _, one := range h.hashes {
		all.Go(func() { one.Write(p) })
	}
	all.Wait()
	return len(p), nil
}

// Digests returns what came out, in the order of the algorithms given.
func (h *Hasher) Digests() []Digest {
	var out []Digest
	for i, a := range h.algorithms {
		out = append(out, New(a, h.hashes[i].Sum(nil)))
	}
	return out
}
