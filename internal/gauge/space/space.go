// Package space fills the free space of the file system that a folder is on with numbered files of sector stamps, reads
// them back, and removes them. It needs no special rights, and touches nothing but its own files, which are in a folder
// of their own.
package space

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/file"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/probe"
	"zipstamp/internal/meter"
	"zipstamp/internal/state"
)

// Test is a test of free space.
type Test struct {
	Folder string
	Meter  *meter.Meter
	Nonce  mark.Nonce // a new one for each test
	First  int64      // fill only so many bytes; 0: all that is free
	Keep   bool       // leave the files, to read them again later
	Again  bool       // write nothing: read the files that were left

	Present func() bool // whether the disk below the folder is still there; nil: not known

	spoil func(card.Medium) card.Medium // for tests: what is wrong with the medium; nil: nothing
}

// FolderName is the name of the folder for the files.
const FolderName = "zipstamp-space"

// about is the file beside them that says what they are.
const about = "about.json"

// maxAbout bounds that file, bytes.
const maxAbout = 64 << 10

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
	ErrUnknown = errors.New("files of an earlier test can't be identified")
)

// reserveFor is how much free space is left alone, bytes: a hundredth, within bounds.
func reserveFor(free int64) int64 { return min(max(free/100, 4<<20), 64<<20) }

// LeftBehind reads what is known of the files of an earlier test. The error is ErrNothing if there are none.
func LeftBehind(folder string) (a About, err error) {
	text, err := state.ReadFile(filepath.Join(folder, FolderName, about), maxAbout)
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
	dir := filepath.Join(folder, FolderName)
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
		_, ours := file.Index(e.Name())
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
	if left, err := os.ReadDir(dir); err == nil && len(left) > 0 { // files that are somebody else's
		return removed, nil
	}
	return removed, os.Remove(dir)
}

// Run does the test. The report is never nil; its extents are in the bytes of the files, one after the other. The error
// says why the test did not come to its end.
func (s Test) Run(ctx context.Context) (*gauge.Report, error) {
	rep := &gauge.Report{Method: gauge.BySpace, Nonce: s.Nonce, Verdict: gauge.Inconclusive}
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
	dir := filepath.Join(s.Folder, FolderName)
	size := earlier.Bytes
	if !s.Again {
		if size, err = s.begin(dir); err != nil {
			return rep, err
		}
	}
	files := file.NewSet(dir, size, s.Present)
	defer files.Close()
	rep.Claimed = files.Size()
	var medium card.Medium = files
	if s.spoil != nil {
		medium = s.spoil(files)
	}
	r := &run{Test: s, files: files, limit: files.Size()}
	r.Sweep.Subject = probe.Subject{
		Dev: card.Named(medium, s.Folder), Progress: s.Meter, Marks: mark.NewRun(rep.Nonce), Report: rep,
	}
	defer r.Close()
	if err := r.Open(probe.InFlight + 1); err != nil {
		return rep, err
	}
	err = r.story(ctx)
	r.finish(err)
	if s.Again {
		return rep, err
	}
	if s.Keep && err == nil {
		return rep, note(dir, About{Nonce: s.Nonce, Bytes: r.limit, Kept: true})
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

// begin makes the folder, and finds out how much is to be filled, bytes. What a test left behind that was killed is
// removed.
func (s Test) begin(dir string) (size int64, err error) {
	if _, err := RemoveFiles(s.Folder); err != nil {
		return 0, err
	}
	free, err := file.Free(s.Folder)
	if err != nil {
		return 0, err
	}
	size = max(free-reserveFor(free), 0) / probe.SampleSize * probe.SampleSize
	if s.First > 0 {
		size = min(size, s.First/probe.SampleSize*probe.SampleSize)
	}
	if size < probe.SampleSize {
		return 0, ErrNoRoom
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return 0, err
	}
	return size, note(dir, About{Nonce: s.Nonce})
}

// run is a test at work. The files are its card.
type run struct {
	Test
	probe.Sweep
	files *file.Set
	limit int64 // bytes that are tested
	head  int64 // written up to here
	back  int64 // read back up to here
}

// stride is how much is written from one look back to the next, bytes.
const stride = 64 << 20

func (r *run) story(ctx context.Context) error {
	lost := false
	if !r.Again {
		var err error
		if lost, err = r.fill(ctx); err != nil {
			return err
		}
	}
	if err := r.Flush(); err != nil {
		return err
	}
	if !lost && !r.Again {
		if err := r.RewriteMiddle(ctx, r.limit); err != nil {
			return err
		}
	}
	err := r.ReadBack(ctx, 0, r.limit, meter.ReadBack, func(at int64) { r.back = at })
	r.MergeMiddle()
	return err
}

// fill writes until all is full, or what was written turns out to be lost.
func (r *run) fill(ctx context.Context) (lost bool, err error) {
	r.Progress.Begin(meter.Write, r.limit)
	start := time.Now()
	r.Writing.Start(start)
	defer func() { r.Report.TookPhase(meter.Write, r.head, start) }()
	for r.head < r.limit {
		to := min(r.head+stride, r.limit)
		err := r.InOrder(ctx, r.head, to, r.WriteBlock)
		if errors.Is(err, fault.Full) {
			r.limit = r.files.Filled()
			r.head, r.Report.Claimed = r.limit, r.limit
			break
		}
		if err != nil {
			return false, err
		}
		r.head = to
		if r.FailedRow >= probe.HopelessRow {
			r.limit = r.head
			break
		}
		if lost, err := r.lookBack(); err != nil || lost {
			r.limit = r.head
			return lost, err
		}
		r.Writing.Start(time.Now())
	}
	if r.limit == 0 {
		return false, ErrNoRoom
	}
	return false, nil
}

// lookBack tells whether something is lost that was written before.
func (r *run) lookBack() (bool, error) {
	if err := r.Settle(); err != nil {
		return false, err
	}
	for _, off := range append([]int64{0, 1 << 20}, probe.Trail(r.head)...) {
		if off < 0 || off+probe.SampleSize > r.head {
			continue
		}
		o, err := r.Probe(off, probe.SampleSize)
		if err != nil {
			return false, err
		}
		if o.State != gauge.Missing {
			continue
		}
		if o, err = r.Probe(off, probe.SampleSize); err != nil || o.State == gauge.Missing {
			return true, err
		}
	}
	return false, nil
}

// finish completes the report. That a part of what was written is lost is a loss, if it is more than single bad places.
func (r *run) finish(err error) {
	rep := r.Report
	rep.Tested = r.limit
	if err != nil {
		rep.Tested = r.back
	}
	if lost := r.Bad.Bytes[gauge.Missing]; lost > max(rep.Tested/1000, 1<<20) {
		loss := &gauge.Loss{
			Real: rep.Tested - lost, Exact: err == nil, ReadsAs: probe.ReadsAs(r.LostSample, r.Changing),
		}
		for _, s := range r.LostSample {
			loss.Repeats = loss.Repeats || s.Kind == mark.Elsewhere
		}
		rep.Loss = loss
	}
	rep.Extents = r.Bad.Cover(rep.Tested)
	if rep.Tested < rep.Claimed {
		rep.Extents = append(rep.Extents, gauge.StretchOf(rep.Tested, rep.Claimed-rep.Tested, gauge.Unwritten))
	}
	rep.Bad = r.Bad.Sectors()
	if rep.Loss != nil {
		rep.Bad.Lost = 0
	}
	rep.Writing, rep.Reading = r.Writing.Points(), r.Reading.Points()
	rep.Judge(err == nil)
}

// note writes what the files are beside them.
func note(dir string, a About) error {
	a.Version, a.Made = aboutVersion, time.Now().UTC().Truncate(time.Second)
	text, err := json.MarshalIndent(a, "", "  ")
	if err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(dir, about))
	if err != nil {
		return err
	}
	_, err = f.Write(append(text, '\n'))
	return cmp.Or(err, errors.Join(f.Sync(), f.Close()))
}
