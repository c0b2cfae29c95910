package image

import (
	"errors"
	"io"
	"io/fs"
	"sync/atomic"
)

// Plain is a raw image that is read straight into the buffers of who reads it. Holes of its file are known to be zeros
// without being read.
type Plain struct {
	file *File
	at   atomic.Int64
}

// Plain starts to read a raw image that lies in a file. The error is an *UnusableError.
func (f *File) Plain() (*Plain, error) {
	if limit := f.limit(); f.Size > limit {
		return nil, &UnusableError{Path: f.Path, Why: UnpacksToMuch, Most: limit, Claimed: true}
	}
	return &Plain{file: f}, nil
}

// Read reads on. The error is io.EOF where the file ended when it was opened, or one of reading.
func (p *Plain) Read(b []byte) (int, error) {
	at := p.at.Load()
	left := p.file.Size - at
	if left <= 0 {
		return 0, io.EOF
	}
	n, err := p.file.file.ReadAt(b[:min(int64(len(b)), left)], at)
	p.at.Add(int64(n))
	switch {
	case n > 0:
		return n, nil
	case errors.Is(err, io.EOF): // it was longer when it was opened
		return 0, &fs.PathError{
			Op: "read", Path: p.file.Path, Err: errors.New("the file became shorter while it was read"),
		}
	}
	return 0, err
}

// SkipZeros tells whether the next n bytes are in a hole of the file, and skips them then. What is beyond the end of a
// file that became shorter is no hole.
func (p *Plain) SkipZeros(n int64) bool {
	at := p.at.Load()
	if n > p.file.Size-at || dataFrom(p.file.file, at) < at+n {
		return false
	}
	if now, err := p.file.file.Stat(); err != nil || now.Size() < at+n {
		return false
	}
	p.at.Add(n)
	return true
}

// Position is how much was read, bytes.
func (p *Plain) Position() int64 { return p.at.Load() }

// Close does nothing: the file stays open.
func (p *Plain) Close() error { return nil }
