//go:build purego || !(amd64 || arm64)

package xz

func (z *lzma2) chunk(size, limit int) bool { return z.chunkPlain(size, limit) }
