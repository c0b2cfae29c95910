package xz

import "encoding/binary"

// afterLiteral is the state after a literal, by the state before it.
var afterLiteral = [16]uint8{0, 0, 0, 0, 1, 2, 3, 4, 5, 6, 4, 5}

// repeats are the distances, by that of a match less one, at which a match that repeats itself within 8 bytes can be
// copied by 8: the least multiples that are 8 or more.
var repeats = [8]uint8{8, 8, 9, 8, 10, 12, 14, 8}

// byteAt is a byte of the input; what is beyond its end is some other byte of it.
func byteAt(in *[inputSize]byte, at uint) byte { return in[at&inputMask] }

// copy8 copies 8 bytes within the window.
func copy8(out []byte, to, from uint) {
	binary.LittleEndian.PutUint64(out[to:], binary.LittleEndian.Uint64(out[from:]))
}
