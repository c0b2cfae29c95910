//go:build !unix && !windows

package card

// alignedBuffer need not be aligned: nothing is opened for direct access here.
func alignedBuffer(size int) ([]byte, error) { return make([]byte, size), nil }

func freeBuffer([]byte) {}
