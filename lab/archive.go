//go:build linux

package lab

import (
	"bytes"
	"fmt"
	"path/filepath"
)

// archive writes a cpio archive of the form "newc", as the kernel unpacks it at its start
// (Documentation/driver-api/early-userspace/buffer-format.rst). The zero value is empty.
type archive struct {
	b    bytes.Buffer
	seen map[string]bool
}

// add adds a file, and the folders above it.
func (a *archive) add(name string, text []byte, mode int) {
	a.parents(name)
	a.put(name, 0o100000|mode, text, 0, 0)
}

func (a *archive) link(name, target string) {
	a.parents(name)
	a.put(name, 0o120777, []byte(target), 0, 0)
}

func (a *archive) folder(name string) {
	a.parents(name)
	a.put(name, 0o040755, nil, 0, 0)
}

func (a *archive) device(name string, major, minor int) { a.put(name, 0o020600, nil, major, minor) }

func (a *archive) parents(name string) {
	if dir := filepath.Dir(name); dir != "." && dir != "/" {
		a.folder(dir)
	}
}

func (a *archive) put(name string, mode int, text []byte, major, minor int) {
	if a.seen == nil {
		a.seen = map[string]bool{}
	}
	if a.seen[name] {
		return
	}
	a.seen[name] = true
	fmt.Fprintf(&a.b, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00",
		len(a.seen), mode, 0, 0, 1, 0, len(text), 0, 0, major, minor, len(name)+1, 0, name)
	a.pad(4)
	a.b.Write(text)
	a.pad(4)
}

func (a *archive) pad(to int) {
	for a.b.Len()%to != 0 {
		a.b.WriteByte(0)
	}
}

// finish ends the archive; others may follow it.
func (a *archive) finish() []byte {
	a.put("TRAILER!!!", 0, nil, 0, 0)
	a.pad(512)
	return a.b.Bytes()
}
