package card

import (
	"unsafe"

	"golang.org/x/sys/windows"
)

// alignedBuffer asks the kernel for pages, so the buffer is aligned to a page, and the collector leaves it alone.
func alignedBuffer(size int) ([]byte, error) {
	at, err := windows.VirtualAlloc(0, uintptr(size), windows.MEM_COMMIT|windows.MEM_RESERVE, windows.PAGE_READWRITE)
	if err != nil {
		return nil, err
	}
	return unsafe.Slice((*byte)(*(*unsafe.Pointer)(unsafe.Pointer(&at))), size), nil // it is no memory of Go's
}

// freeBuffer fails only for what VirtualAlloc did not give.
func freeBuffer(b []byte) {
	_ = windows.VirtualFree(uintptr(unsafe.Pointer(unsafe.SliceData(b))), 0, windows.MEM_RELEASE)
}
