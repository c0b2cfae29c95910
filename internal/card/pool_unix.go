//go:build unix

package card

import "golang.org/x/sys/unix"

// alignedBuffer asks the kernel for pages, so the buffer is aligned to a page, and the collector leaves it alone.
func alignedBuffer(size int) ([]byte, error) {
	return unix.Mmap(-1, 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
}

func freeBuffer(b []byte) { _ = unix.Munmap(b) } // fails only for what Mmap did not give
