package gauge

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/meter"
	"zipstamp/internal/state"
)

// Space fills the free space of the file system that a folder is on with numbered files of sector stamps, reads them back, and removes them. It needs no
// special rights, and touches nothing but its own files, which are in a folder of their own.
type Space struct {
	Folder string
	Meter  *meter.Meter
	Nonce  mark.Nonce // a new one for each test
	First  int64      // fill only so many bytes; 0: all that is free
	Keep   bool       // leave the files, to read them again later
	Again  bool       // write nothing: read the files that were left
}

// SpaceFolder is the name of the folder for the files.
const SpaceFolder = "zipstamp-space"

// FileSize is the length of all files but the last, bytes: such that FAT can hold it, and a multiple of BlockSize.
const FileSize = 1 << 30

// about is the file beside them that says what they are.
const about = "about.json"

// aboutVersion is the version of that file.
const aboutVersion = 1

// About says what the files in a folder are.
type About struct {
	Version int        `json:"zipstamp_space"`
	Nonce   mark.Nonce `json:"nonce"`
	Bytes   int64      `json:"bytes"` // in all files; 0 as long as they are being written
	Kept    bool       `json:"kept"`  // they are to be read again
	Made    time.Time  `json:"made"`
}

// Errors of a folder with files of an earlier test, or without.
var (
	ErrKept    = errors.New("there are files of an earlier test, which were kept to be read again")
	ErrNothing = errors.New("there are no files of an earlier test")
	ErrNoRoom  = errors.New("there is no free space to test")
	ErrUnknown = errors.New("what the files of an earlier test are can't be known")
)

// reserveFor is how much free space is left alone, bytes: a hundredth, within bounds.
func reserveFor(free int64) int64 { return min(max(free/100, 4<<20), 64<<20) }

// LeftBehind reads what is known of the files of an earlier test. The error is ErrNothing if there are none.
func LeftBehind(folder string) (a About, err error) {
	text, err := state.ReadFile(filepath.Join(folder, SpaceFolder, about), maxProgress)
	if errors.Is(err, fs.ErrNotExist) {
		return a, ErrNothing
	}
	if err != nil {
		return a, err
	}
	if json.Unmarshal(text, &a) != nil {
		return a, fmt.Errorf("%w: %s is damaged", ErrUnknown, about)
	}
	if a.Version != aboutVersion {
		return a, fmt.Errorf("%w: %s is of another version of zipstamp", ErrUnknown, about)
	}
	return a, nil
}

// RemoveFiles removes the files of a test, and nothing else: what has their names, in the folder for them.
func RemoveFiles(folder string) (removed int, err error) {
	dir := filepath.Join(folder, SpaceFolder)
	info, err := os.Lstat(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err == nil && !info.IsDir() {
		err = fmt.Errorf("%s is not a folder", dir)
	}
	if err != nil {
		return 0, err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		_, ours := fileIndex(e.Name())
		if !e.Type().IsRegular() || !ours && e.Name() != about {
			continue
		}
		if err := os.Remove(filepath.Join(dir, e.Name())); err != nil {
			return removed, err
		}
		if ours {
			removed++
		}
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, syscall.EEXIST) {
		return removed, err
	}
	return removed, nil
}

// fileName of the file with the index, from 0.
func fileName(i int) string { return fmt.Sprintf("space-%05d.bin", i+1) }

func fileIndex(name string) (int, bool) {
	digits, ok := strings.CutPrefix(name, "space-")
	digits, ok2 := strings.CutSuffix(digits, ".bin")
	n, err := strconv.Atoi(digits)
	return n - 1, ok && ok2 && err == nil && n > 0 && fileName(n-1) == name
}

// Run does the test. The report is never nil; its extents are in the bytes of the files, one after the other. The error says why the test did not come to
// its end.
func (s Space) Run(ctx context.Context) (*Report, error) {
	rep := &Report{Method: BySpace, Nonce: s.Nonce, Verdict: Inconclusive}
	earlier, err := LeftBehind(s.Folder)
	switch {
	case s.Again && err != nil:
		return rep, err
	case s.Again && earlier.Bytes == 0:
		return rep, ErrNothing
	case s.Again:
		rep.Nonce = earlier.Nonce
	case err == nil && earlier.Kept:
		return rep, ErrKept
	case err != nil && !errors.Is(err, ErrNothing):
		return rep, err
	}
	files := &fileSet{dir: filepath.Join(s.Folder, SpaceFolder), name: s.Folder, access: card.Direct, device: deviceUnder(s.Folder)}
	defer files.Close()
	if s.Again {
		files.size = earlier.Bytes
	} else if err := s.begin(files); err != nil {
		return rep, err
	}
	rep.Claimed = files.size
	r := &spaceRun{wholeRun: wholeRun{limit: files.size, asked: files.size, kept: time.Now()}, files: files, space: s}
	r.subject = subject{dev: files, meter: s.Meter, run: mark.NewRun(rep.Nonce), rep: rep}
	defer r.close()
	if err := r.open(inFlight + 1); err != nil {
		return rep, err
	}
	err = r.story(ctx)
	r.finish(err)
	if s.Again {
		return rep, err
	}
	if s.Keep && err == nil {
		return rep, files.about(About{Nonce: s.Nonce, Bytes: r.limit, Kept: true})
	}
	closing := files.Close() // some systems keep what is open
	if err == nil {
		err = closing
	}
	if _, removing := RemoveFiles(s.Folder); err == nil {
		err = removing
	}
	return rep, err
}

// begin makes the folder, and finds out how much is free. What a test left behind that was killed is removed.
func (s Space) begin(files *fileSet) error {
	if _, err := RemoveFiles(s.Folder); err != nil {
		return err
	}
	free, err := freeSpace(s.Folder)
	if err != nil {
		return err
	}
	files.size = max(free-reserveFor(free), 0) / sampleSize * sampleSize
	if s.First > 0 {
		files.size = min(files.size, s.First/sampleSize*sampleSize)
	}
	if files.size < sampleSize {
		return ErrNoRoom
	}
	if err := os.Mkdir(files.dir, 0o755); err != nil {
		return err
	}
	return files.about(About{Nonce: s.Nonce})
}

// spaceRun is a test at work. The files are its card.
type spaceRun struct {
	wholeRun
	files *fileSet
	space Space
}

// spaceStride is how much is written from one look back to the next, bytes.
const spaceStride = 64 << 20

func (r *spaceRun) story(ctx context.Context) error {
	lost := false
	if !r.space.Again {
		var err error
		if lost, err = r.fill(ctx); err != nil {
			return err
		}
	}
	if err := r.flush(); err != nil {
		return err
	}
	if err := r.readBack(ctx, 0, r.limit, meter.ReadBack, true); err != nil {
		return err
	}
	if lost || r.space.Again {
		return nil
	}
	return r.again(ctx)
}

// fill writes until all is full, or what was written is seen to be lost.
func (r *spaceRun) fill(ctx context.Context) (lost bool, err error) {
	r.meter.Begin(meter.Write, r.limit)
	start := time.Now()
	r.writing.Start(start)
	defer func() { r.rep.took(meter.Write, r.head, start) }()
	for r.head < r.limit {
		to := min(r.head+spaceStride, r.limit)
		err := r.inOrder(ctx, r.head, to, r.writeBlock)
		if errors.Is(err, errFull) {
			r.limit = r.files.filled()
			r.head, r.rep.Claimed = r.limit, r.limit
			break
		}
		if err != nil {
			return false, err
		}
		r.head = to
		if r.failedRow >= hopelessRow {
			r.limit = r.head
			break
		}
		if lost, err := r.lookBack(); err != nil || lost {
			r.limit = r.head
			return lost, err
		}
		r.writing.Start(time.Now())
	}
	if r.limit == 0 {
		return false, ErrNoRoom
	}
	return false, nil
}

// lookBack tells whether something is lost that was written before.
func (r *spaceRun) lookBack() (bool, error) {
	if err := r.settle(); err != nil {
		return false, err
	}
	for _, off := range append([]int64{0, 1 << 20}, trail(r.head)...) {
		if off < 0 || off+sampleSize > r.head {
			continue
		}
		o, err := r.test(off, sampleSize)
		if err != nil {
			return false, err
		}
		if o.state != Missing {
			continue
		}
		if o, err = r.test(off, sampleSize); err != nil || o.state == Missing {
			return true, err
		}
	}
	return false, nil
}

// finish completes the report. That a part of what was written is lost is a loss, if it is more than single bad places.
func (r *spaceRun) finish(err error) {
	rep := r.rep
	rep.Tested = r.limit
	if err != nil {
		rep.Tested = r.back
	}
	if lost := r.bad.counts[Missing]; lost > max(rep.Tested/1000, 1<<20) {
		loss := &Loss{Real: rep.Tested - lost, Exact: err == nil, ReadsAs: readsAs(r.lostSample, r.changing)}
		for _, s := range r.lostSample {
			loss.Repeats = loss.Repeats || s.Kind == mark.Elsewhere
		}
		rep.Loss = loss
	}
	rep.Extents = r.bad.cover(rep.Tested)
	if rep.Tested < rep.Claimed {
		rep.Extents = append(rep.Extents, stretch(rep.Tested, rep.Claimed-rep.Tested, Unwritten))
	}
	rep.Bad = r.bad.sectors()
	if rep.Loss != nil {
		rep.Bad.Lost = 0
	}
	rep.Writing, rep.Reading = r.writing.Points(), r.reading.Points()
	rep.judge(err == nil)
}

// fileSet is a row of files that stands for a card.
type fileSet struct {
	dir, name string
	size      int64
	access    card.Access
	device    string       // what is there as long as the disk below is; empty: not known
	waits     atomic.Int32 // how often it was waited for the kernel to notice that the disk is gone

	mu      sync.Mutex // guards what follows
	open    []*os.File
	lengths []int64
}

// errFull says that the file system takes no more.
var errFull = errors.New("the file system is full")

func (f *fileSet) Size() int64         { return f.size }
func (f *fileSet) SectorSize() int     { return sampleSize } // as direct access to files may need it
func (f *fileSet) Access() card.Access { return f.access }

// filled is how much has been written, in whole places.
func (f *fileSet) filled() (n int64) {
	for _, l := range f.lengths {
		n += l / sampleSize * sampleSize
	}
	return n
}

// file gives the file of an offset, and makes it if it is the next one.
func (f *fileSet) file(off int64, make bool) (*os.File, int64, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	i := int(off / FileSize)
	for len(f.open) <= i {
		path := filepath.Join(f.dir, fileName(len(f.open)))
		if make {
			file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
			if err != nil {
				return nil, 0, err
			}
			file.Close()
		}
		file, _, access, err := card.OpenUncached(path)
		if err != nil {
			return nil, 0, err
		}
		if access != card.Direct {
			f.access = access
		}
		f.open = append(f.open, file)
		f.lengths = append(f.lengths, 0)
	}
	return f.open[i], off % FileSize, nil
}

func (f *fileSet) ReadAt(p []byte, off int64) (int, error) {
	file, at, err := f.file(off, false)
	if err != nil {
		return 0, f.named("read", off, err)
	}
	n, err := file.ReadAt(p, at)
	if errors.Is(err, io.EOF) {
		err = fmt.Errorf("the file became shorter: %w", syscall.EIO)
	}
	return n, f.named("read", off, err)
}

func (f *fileSet) WriteAt(p []byte, off int64) (int, error) {
	file, at, err := f.file(off, true)
	if err != nil {
		return 0, f.named("write", off, err)
	}
	n, err := file.WriteAt(p, at)
	f.mu.Lock()
	defer f.mu.Unlock()
	i := off / FileSize
	f.lengths[i] = max(f.lengths[i], at+int64(n))
	return n, f.named("write", off, err)
}

// named gives errors the types of those of a card.
func (f *fileSet) named(op string, off int64, err error) error {
	is := func(targets ...error) bool {
		for _, t := range targets {
			if errors.Is(err, t) {
				return true
			}
		}
		return false
	}
	switch {
	case err == nil:
		return nil
	case is(syscall.ENOSPC, syscall.EDQUOT, syscall.EFBIG):
		return fmt.Errorf("%w: %w", errFull, err)
	case is(syscall.ENODEV, syscall.ENXIO, fs.ErrNotExist), f.gone():
		return &card.GoneError{Card: f.name, Err: err}
	}
	return &card.IOError{Op: op, Card: f.name, Offset: off, Err: err}
}

// How long after an error a disk may still seem to be there that has been pulled out, and after how many errors that is waited for: if it is still there
// after so many, it has bad places, whatever becomes of it later.
const (
	leaveTime = 2 * time.Second
	maxWaits  = 8
)

// gone tells, after an error, whether the disk below the files isn't there any more: then a file system gives I/O errors, or says that it is
// read-only, and does so before the kernel has taken the disk away.
func (f *fileSet) gone() bool {
	if f.device == "" {
		return false
	}
	waits := f.waits.Add(1) <= maxWaits
	for start := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if _, err := os.Stat(f.device); errors.Is(err, fs.ErrNotExist) {
			return true
		}
		if !waits || time.Since(start) >= leaveTime {
			return false
		}
	}
}

func (f *fileSet) Flush() error {
	for _, file := range f.open {
		if err := file.Sync(); err != nil {
			return f.named("flush", 0, err)
		}
	}
	return nil
}

func (f *fileSet) Forget() error {
	for _, file := range f.open {
		if err := card.Forget(file); err != nil {
			return f.named("flush", 0, err)
		}
	}
	return nil
}

func (f *fileSet) Close() (err error) {
	for _, file := range f.open {
		err = errors.Join(err, file.Close())
	}
	f.open = nil
	return err
}

// about writes what the files are beside them.
func (f *fileSet) about(a About) error {
	a.Version, a.Made = aboutVersion, time.Now().UTC().Truncate(time.Second)
	text, err := json.MarshalIndent(a, "", "  ")
	if err != nil {
		return err
	}
	file, err := os.Create(filepath.Join(f.dir, about))
	if err != nil {
		return err
	}
	_, err = file.Write(append(text, '\n'))
	return cmp.Or(err, errors.Join(file.Sync(), file.Close()))
}
