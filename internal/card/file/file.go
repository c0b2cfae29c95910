// Package file has files that stand for cards: a plain file, and a row of files in a folder, which together are as
// large as the free space there.
package file

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"sync/atomic"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/lock"
)

// Kind takes every file for a plain one that stands for a card, so it is asked last.
func Kind(path string, info fs.FileInfo) (*card.File, error) {
	return &card.File{
		Source: source{path}, Kind: card.Plain, SectorSize: minSector, Size: info.Size() / minSector * minSector,
		ReadOnly: info.Mode().Perm()&0o222 == 0, Number: Number(path), Uncertain: true,
	}, nil
}

const minSector = 512

// source is a plain file.
type source struct{ path string }

// Open opens it directly where its file system can, and locks it if it is to be written.
func (s source) Open(_ context.Context, mode card.Mode) (card.Medium, error) {
	if mode == card.ToRead {
		return openToRead(s.path)
	}
	f, sector, access, err := openUncached(s.path)
	if err != nil {
		return nil, fault.Opening(err)
	}
	err = lock.Take(f)
	var info fs.FileInfo
	if err == nil {
		info, err = f.Stat()
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &plain{file: f, size: info.Size() / int64(sector) * int64(sector), sector: sector, access: access}, nil
}

func openToRead(path string) (card.Medium, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fault.Opening(err)
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	return &plain{file: f, size: info.Size() / minSector * minSector, sector: minSector, access: card.Dropped}, nil
}

// Look opens it as any file.
func (s source) Look() (card.Reader, error) {
	f, err := os.Open(s.path)
	if err != nil {
		return nil, fault.Opening(err)
	}
	return f, nil
}

// syncEvery is how much is written through the cache before it is flushed, bytes: so that what is
// shown as written is on the disk, but for this much.
const syncEvery = 32 << 20

// plain is a plain file that stands for a card.
type plain struct {
	file     *os.File
	size     int64
	sector   int
	access   card.Access
	unsynced atomic.Int64
}

func (p *plain) Size() int64         { return p.size }
func (p *plain) SectorSize() int     { return p.sector }
func (p *plain) Access() card.Access { return p.access }
func (p *plain) Close() error        { return p.file.Close() }

// Present is always true: an open file stays there, also when its name is removed.
func (p *plain) Present() bool { return true }

func (p *plain) ReadAt(b []byte, off int64) (int, error) {
	if err := p.within(b, off); err != nil {
		return 0, err
	}
	n, err := p.file.ReadAt(b, off)
	return n, readFault(err)
}

// errShorter says that a file was cut off while it was used.
var errShorter = errors.New("the file became shorter")

// readFault classifies an error of reading a file within what was its length.
func readFault(err error) error {
	if errors.Is(err, io.EOF) {
		return fault.BadPlace.Because(errShorter)
	}
	return fault.Of(err)
}

func (p *plain) WriteAt(b []byte, off int64) (int, error) {
	if err := p.within(b, off); err != nil {
		return 0, err
	}
	n, err := p.file.WriteAt(b, off)
	if p.access != card.Direct && err == nil && p.unsynced.Add(int64(n)) >= syncEvery {
		p.unsynced.Store(0)
		err = p.file.Sync()
	}
	return n, fault.Of(err)
}

// within refuses what a system refuses of a disk.
func (p *plain) within(b []byte, off int64) error {
	sector := int64(p.sector)
	switch {
	case off < 0 || off%sector != 0 || int64(len(b))%sector != 0:
		return fault.Misused
	case off > p.size-int64(len(b)):
		return fault.Full
	}
	return nil
}

func (p *plain) Flush() error { return fault.Of(p.file.Sync()) }

func (p *plain) Forget() error { return fault.Of(forget(p.file)) }
