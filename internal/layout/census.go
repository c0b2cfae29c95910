package layout

import (
	"io"
	"time"
)

// Census is how much is in a file system, as far as that can be read quickly.
type Census struct {
	Files  int       // and folders, if About is set
	About  bool      // the file system counts what has a name, and its own
	Newest time.Time // when the last of it was written, by the clock of whoever wrote it; zero where that isn't told
}

// Bounds of a census: what is read of a file system to count its files.
var censusBounds = Bounds{Folders: 300, Files: 5000, Depth: usual.Depth}

// Count counts the files of the file system of a kind that starts at r's offset 0. false says that it can't be done
// quickly, or at all.
func Count(r io.ReaderAt, kind FSKind) (c Census, ok bool) {
	switch {
	case kind.IsFAT():
		v, err := OpenFAT(r)
		if err != nil {
			return c, false
		}
		files, err := v.FilesWithin(censusBounds)
		if err != nil {
			return c, false
		}
		c.Files = len(files)
		for _, f := range files {
			if f.Modified.After(c.Newest) {
				c.Newest = f.Modified
			}
		}
		return c, true
	case kind.IsExt():
		return countExt(r)
	}
	return c, false
}

// Offsets in the superblock of ext2 and its successors (Linux, Documentation/filesystems/ext4/super.rst).
const (
	extSuper      = 1024
	extInodes     = 0x00
	extFreeInodes = 0x10
	extWritten    = 0x30
	extFirstInode = 0x54
	extRevision   = 0x4C
)

// countExt tells what the groups count: inodes in use, less those that the file system has for itself. The superblock's
// own count is behind as long as the file system is mounted.
func countExt(r io.ReaderAt) (c Census, ok bool) {
	b := make([]byte, 264)
	if _, err := r.ReadAt(b, extSuper); err != nil {
		return c, false
	}
	own := uint32(10)
	if le.Uint32(b[extRevision:]) > 0 {
		own = le.Uint32(b[extFirstInode:]) - 1
	}
	free := int64(le.Uint32(b[extFreeInodes:]))
	if v, err := OpenExt(r, 1<<62); err == nil {
		if n, err := v.freeInodes(); err == nil {
			free = n
		}
	}
	used := int64(le.Uint32(b[extInodes:])) - free - int64(own)
	if used < 0 {
		return c, false
	}
	c.Files, c.About = int(used), true
	if written := le.Uint32(b[extWritten:]); written != 0 {
		c.Newest = time.Unix(int64(written), 0).UTC()
	}
	return c, true
}

// freeInodes is what the descriptors of all groups count.
func (v *Ext) freeInodes() (n int64, err error) {
	const atOnce = 4096 // descriptors
	for g := int64(0); g < v.groups; g += atOnce {
		d := make([]byte, min(atOnce, v.groups-g)*v.descSize)
		if _, err := v.r.ReadAt(d, (v.first+1)*v.block+g*v.descSize); err != nil {
			return 0, err
		}
		for ; int64(len(d)) >= v.descSize; d = d[v.descSize:] {
			n += int64(le.Uint16(d[14:]))
			if v.descSize >= 64 {
				n += int64(le.Uint16(d[46:])) << 16
			}
		}
	}
	return n, nil
}
