//go:build (amd64 || arm64) && !purego

package xz

// chunk is chunkPlain in assembler. It relies on what fits tells, and can't be preempted: a chunk takes some
// milliseconds.
func (z *lzma2) chunk(size, limit int) bool { return kernel(z, size, limit) }

//go:noescape
func kernel(z *lzma2, size, limit int) bool
