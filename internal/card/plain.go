package card

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"syscall"

	"zipstamp/internal/card/lock"
)

// syncEvery is how much is written through the cache before it is flushed, bytes: so that what is
// shown as written is on the disk, but for this much.
const syncEvery = 32 << 20

// plain is a plain file that stands for a card, opened directly where its file system can.
type plain struct {
	file     *os.File
	size     int64
	sector   int
	access   Access
	unsynced atomic.Int64
}

func openPlain(path string) (medium, error) {
	f, sector, access, err := OpenUncached(path)
	if err != nil {
		return nil, err
	}
	if err := lock.Take(f); err != nil {
		f.Close()
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	return &plain{file: f, size: info.Size() / int64(sector) * int64(sector), sector: sector, access: access}, nil
}

func (p *plain) Size() int64     { return p.size }
func (p *plain) SectorSize() int { return p.sector }
func (p *plain) Access() Access  { return p.access }
func (p *plain) Close() error    { return p.file.Close() }
func (p *plain) present() bool   { return true }

func (p *plain) ReadAt(b []byte, off int64) (int, error) {
	if err := p.within(b, off); err != nil {
		return 0, err
	}
	n, err := p.file.ReadAt(b, off)
	if errors.Is(err, io.EOF) {
		err = fmt.Errorf("the file became shorter: %w", syscall.EIO)
	}
	return n, err
}

func (p *plain) WriteAt(b []byte, off int64) (int, error) {
	if err := p.within(b, off); err != nil {
		return 0, err
	}
	n, err := p.file.WriteAt(b, off)
	if p.access == Direct || err != nil {
		return n, err
	}
	if p.unsynced.Add(int64(n)) >= syncEvery {
		p.unsynced.Store(0)
		err = p.file.Sync()
	}
	return n, err
}

// within refuses what the kernel refuses of a block device.
func (p *plain) within(b []byte, off int64) error {
	sector := int64(p.sector)
	switch {
	case off < 0 || off%sector != 0 || int64(len(b))%sector != 0:
		return syscall.EINVAL
	case off > p.size-int64(len(b)):
		return syscall.ENOSPC
	}
	return nil
}

func (p *plain) Flush() error { return p.file.Sync() }

func (p *plain) Forget() error { return Forget(p.file) }
