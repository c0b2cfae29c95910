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

// countExt tells what the superblock counts: inodes in use, less those that the file system has for itself.
func countExt(r io.ReaderAt) (c Census, ok bool) {
	b := make([]byte, 264)
	if _, err := r.ReadAt(b, extSuper); err != nil {
		return c, false
	}
	own := uint32(10)
	if le.Uint32(b[extRevision:]) > 0 {
		own = le.Uint32(b[extFirstInode:]) - 1
	}
	used := int64(le.Uint32(b[extInodes:])) - int64(le.Uint32(b[extFreeInodes:])) - int64(own)
	if used < 0 {
		return c, false
	}
	c.Files, c.About = int(used), true
	if written := le.Uint32(b[extWritten:]); written != 0 {
		c.Newest = time.Unix(int64(written), 0).UTC()
	}
	return c, true
}
