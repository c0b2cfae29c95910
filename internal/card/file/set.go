package file

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/lock"
)

// Set is a row of files in a folder that stands for a card, for tests of the free space there. Files are made as they
// are written. It is a card.Medium.
type Set struct {
	dir     string
	size    int64
	present func() bool  // whether the disk below is still there; nil: not known
	waits   atomic.Int32 // how often it was waited for the system to notice that the disk is gone

	mu     sync.Mutex // guards what follows
	access card.Access
	files  []setFile
}

type setFile struct {
	*os.File
	length int64 // written, bytes
}

// MaxFile is the length of all files but the last, bytes: such that FAT can hold it, and a multiple of the blocks of
// tests.
const MaxFile = 1 << 30

// setSector is what files are accessed in, bytes, as direct access to them may need it.
const setSector = 4096

// NewSet is the set of files in a folder, which is there, of size bytes; it is rounded down to 4096. present may be
// nil.
func NewSet(folder string, size int64, present func() bool) *Set {
	return &Set{dir: folder, size: size / setSector * setSector, present: present, access: card.Direct}
}

// Name of the file of a set with an index, from 0.
func Name(i int) string { return fmt.Sprintf("space-%05d.bin", i+1) }

// Index of the file with a name; false for any other file.
func Index(name string) (int, bool) {
	digits, ok := strings.CutPrefix(name, "space-")
	digits, ok2 := strings.CutSuffix(digits, ".bin")
	n, err := strconv.Atoi(digits)
	return n - 1, ok && ok2 && err == nil && n > 0 && Name(n-1) == name
}

// Size of all files, when all are written.
func (s *Set) Size() int64 { return s.size }

// SectorSize is 4096.
func (s *Set) SectorSize() int { return setSector }

// Access is the worst of all files.
func (s *Set) Access() card.Access {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.access
}

// Filled is how much has been written, in whole sectors.
func (s *Set) Filled() (n int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.files {
		n += f.length / setSector * setSector
	}
	return n
}

// file gives the file of an offset, and makes it if it is the next one and may be made.
func (s *Set) file(off int64, make bool) (f *os.File, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := int(off / MaxFile); len(s.files) <= i; {
		path := filepath.Join(s.dir, Name(len(s.files)))
		if make {
			f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
			if err != nil {
				return nil, err
			}
			f.Close()
		}
		f, _, access, err := openUncached(path)
		if err == nil {
			if err = lock.Take(f); err != nil {
				f.Close()
			}
		}
		if err != nil {
			return nil, err
		}
		if access != card.Direct {
			s.access = access
		}
		s.files = append(s.files, setFile{f, 0})
	}
	return s.files[off/MaxFile].File, nil
}

// within refuses what a disk refuses. An access is within one file.
func (s *Set) within(p []byte, off int64) error {
	n := int64(len(p))
	switch {
	case off < 0 || off%setSector != 0 || n%setSector != 0 || off/MaxFile != max(off+n-1, off)/MaxFile:
		return fault.Misused
	case off > s.size-n:
		return fault.Full
	}
	return nil
}

// ReadAt reads whole sectors of what has been written.
func (s *Set) ReadAt(p []byte, off int64) (int, error) {
	if err := s.within(p, off); err != nil {
		return 0, err
	}
	f, err := s.file(off, false)
	if err != nil {
		return 0, opening(err)
	}
	n, err := f.ReadAt(p, off%MaxFile)
	return n, readFault(err)
}

// WriteAt writes whole sectors.
func (s *Set) WriteAt(p []byte, off int64) (int, error) {
	if err := s.within(p, off); err != nil {
		return 0, err
	}
	f, err := s.file(off, true)
	if err != nil {
		return 0, opening(err)
	}
	n, err := f.WriteAt(p, off%MaxFile)
	s.mu.Lock()
	defer s.mu.Unlock()
	file := &s.files[off/MaxFile]
	file.length = max(file.length, off%MaxFile+int64(n))
	return n, fault.Of(err)
}

// opening classifies an error of opening one of the files. One that isn't there any more is on a card that is gone.
func opening(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fault.Gone.Because(err)
	}
	return fault.Of(err)
}

// How long after an error a disk may still seem to be there that has been pulled out, and after how many errors that is
// waited for: if it is still there after so many, it has bad places, whatever becomes of it later.
const (
	leaveTime = 2 * time.Second
	maxWaits  = 8
)

// Present tells, after an error, whether the disk below the files is still there: if it isn't, a file system gives I/O
// errors, or says that it is read-only, and does so before the system has taken the disk away.
func (s *Set) Present() bool {
	if s.present == nil {
		return true
	}
	waits := s.waits.Add(1) <= maxWaits
	for start := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if !s.present() {
			return false
		}
		if !waits || time.Since(start) >= leaveTime {
			return true
		}
	}
}

// Flush returns when all files are on the disk.
func (s *Set) Flush() error { return s.each((*os.File).Sync) }

// Forget drops what this computer keeps of the files.
func (s *Set) Forget() error { return s.each(forget) }

func (s *Set) each(do func(*os.File) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.files {
		if err := do(f.File); err != nil {
			return fault.Of(err)
		}
	}
	return nil
}

// Close closes the files; they stay.
func (s *Set) Close() (err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.files {
		err = errors.Join(err, f.Close())
	}
	s.files = nil
	return err
}
