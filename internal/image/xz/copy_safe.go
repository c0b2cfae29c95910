//go:build !amd64 && !arm64

package xz

import "encoding/binary"

// copy8 copies 8 bytes within the window.
func copy8(out []byte, to, from uint) {
	binary.LittleEndian.PutUint64(out[to:], binary.LittleEndian.Uint64(out[from:]))
}
