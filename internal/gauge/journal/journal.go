// Package journal keeps what stood where a test writes sector stamps, on the computer's disk, until it has been put
// back. A run that is killed, a power cut, or a card that is pulled out loses nothing: the journal puts it right later.
//
// A journal is a file:
//
//	zipstamp journal 1\n
//	a Head as JSON in one line\n
//	batches, each:
//	    "batch\n", the number of places (4 bytes)
//	    of each place: its offset on the card (8 bytes), the length (4 bytes), what stood there
//	    the BLAKE3 digest of all that (32 bytes)
//
// Numbers are little endian. A batch is on the disk, whole, before the first of its places is written on the card; so
// one that is cut short, at the end of the file, was never begun on the card, and is left out; so is a journal whose
// head is.
package journal

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"zipstamp/internal/card"
	"zipstamp/internal/card/lock"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/state"
)

// Version is the version of the format.
const Version = 1

// suffix of a journal's name, and the first line but for the version.
const (
	suffix = ".journal"
	title  = "zipstamp journal "
	opener = "batch\n"
)

// Bounds of what is read, against files that are none of ours.
const (
	maxHead   = 64 << 10
	maxPlaces = 1 << 20
	maxPlace  = 1 << 20  // bytes
	maxFile   = 1 << 30  // bytes
	minBatch  = 10 + 32  // bytes
	perPlace  = 8 + 4    // bytes before what stood there
	bufSize   = 64 << 10 // bytes
)

// Head says what the journal is of.
type Head struct {
	Job     string      `json:"job"`
	Card    card.Record `json:"card"`
	Nonce   mark.Nonce  `json:"nonce"` // of the sector stamps that are written
	Started time.Time   `json:"started"`
}

// Place is what stood somewhere on the card.
type Place struct {
	Offset int64 // bytes
	Data   []byte
}

// Journal is a journal of a run that goes on.
type Journal struct {
	root *os.Root
	file *os.File
	name string
}

// Create starts a journal, for its owner's eyes only, since it has contents of the card.
func Create(folder state.Place, head Head) (*Journal, error) {
	root, err := folder.Open()
	if err != nil {
		return nil, err
	}
	j := &Journal{
		root: root,
		name: fmt.Sprintf("%s-%s-%s%s", head.Started.UTC().Format("20060102-150405"), state.PlainName(head.Card.Name),
			head.Nonce.String()[:8], suffix),
	}
	base := strings.TrimSuffix(j.name, suffix)
	for n := 2; ; n++ { // a test and what puts right after it may begin within the same second
		j.file, err = root.OpenFile(j.name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err == nil {
			err = lock.Own(root, j.name, j.file) // for as long as the test runs
			if lock.Lost(err) {                  // a listing has taken it for one that came to nothing
				j.file.Close()
			}
		}
		if !errors.Is(err, fs.ErrExist) && !lock.Lost(err) || n > 100 {
			break
		}
		j.name = fmt.Sprintf("%s_%d%s", base, n, suffix)
	}
	if err != nil {
		root.Close()
		return nil, err
	}
	text, err := json.Marshal(head)
	if err == nil {
		err = folder.Owner.Take(j.file)
	}
	if err == nil {
		_, err = fmt.Fprintf(j.file, "%s%d\n%s\n", title, Version, text)
	}
	if err == nil {
		err = errors.Join(j.file.Sync(), state.Sync(root))
	}
	if err != nil {
		return nil, errors.Join(err, j.Remove())
	}
	return j, nil
}

// Save keeps what stood at the places; when it returns, that is on the computer's disk.
func (j *Journal) Save(places []Place) error {
	var b bytes.Buffer
	b.WriteString(opener)
	b.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(places))))
	for _, p := range places {
		b.Write(binary.LittleEndian.AppendUint64(nil, uint64(p.Offset)))
		b.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(p.Data))))
		b.Write(p.Data)
	}
	sum := blake3.Sum256(b.Bytes())
	b.Write(sum[:])
	if _, err := j.file.Write(b.Bytes()); err != nil {
		return fmt.Errorf("write journal: %w", err)
	}
	if err := j.file.Sync(); err != nil {
		return fmt.Errorf("write journal: %w", err)
	}
	return nil
}

// Path of the journal.
func (j *Journal) Path() string { return filepath.Join(j.root.Name(), j.name) }

// Close leaves the journal for later.
func (j *Journal) Close() error { return errors.Join(j.file.Close(), j.root.Close()) }

// Remove takes the journal away: all has been put back.
func (j *Journal) Remove() error {
	err := lock.Remove(j.file, func() error {
		return lock.Patiently(func() error { return j.root.Remove(j.name) })
	})
	return errors.Join(err, state.Sync(j.root), j.root.Close())
}

// Pending is a journal of a run that did not come to its end.
type Pending struct {
	Head
	Path    string
	Batches [][]Place // in the order in which they were saved
	// of a last batch that doesn't agree with its digest: where it is of, if that can be read, but not what stood there
	Torn []Place
	Err  error // why it can't be used; then the rest is not to be trusted
}

// ErrRunning says that the test of a journal still runs.
var ErrRunning = errors.New("the test still runs")

// Bytes that are to be put back.
func (p Pending) Bytes() (n int64) {
	for _, b := range p.Batches {
		for _, one := range b {
			n += int64(len(one.Data))
		}
	}
	return n
}

// Remove takes the journal away. ErrRunning says that its test still runs.
func (p Pending) Remove() error {
	f, err := os.Open(p.Path)
	if err != nil {
		return err
	}
	if err := lock.Take(f); err != nil {
		f.Close()
		return fmt.Errorf("%s: %w", p.Path, ErrRunning)
	}
	return lock.Remove(f, func() error { return os.Remove(p.Path) })
}

// All reads the journals in a folder, the oldest first. One that can't be used has an Err. A folder that isn't there
// has none.
func All(folder string) ([]Pending, error) {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	var all []Pending
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), suffix) || !e.Type().IsRegular() {
			continue
		}
		p := open(filepath.Join(folder, e.Name()))
		if errors.Is(p.Err, fs.ErrNotExist) { // its test has ended meanwhile
			continue
		}
		if !p.empty() {
			all = append(all, p)
			continue
		}
		if info, err := e.Info(); err == nil && !lock.Young(info) {
			removeEmpty(root, e.Name())
		}
	}
	return all, nil
}

// empty tells whether nothing was saved in a journal: there is nothing to be put back.
func (p Pending) empty() bool { return p.Err == nil && len(p.Batches) == 0 && len(p.Torn) == 0 }

// removeEmpty removes a journal in which nothing was saved, of a run that was killed. A run that goes on holds its own.
// What it holds is looked at again then: a run that ended meanwhile may have saved something since.
func removeEmpty(root *os.Root, name string) {
	f, err := root.Open(name)
	if err != nil {
		return
	}
	if lock.Own(root, name, f) == nil && isEmpty(f) {
		_ = lock.Remove(f, func() error { return root.Remove(name) })
		return
	}
	f.Close()
}

func isEmpty(f *os.File) bool {
	p, err := Read(io.LimitReader(f, maxFile))
	p.Err = err
	return p.empty()
}

func open(path string) Pending {
	var f *os.File
	err := lock.Patiently(func() (err error) { // its run may be removing it
		f, err = os.Open(path)
		return err
	})
	if err != nil {
		return Pending{Path: path, Err: err}
	}
	defer f.Close()
	p, err := Read(io.LimitReader(f, maxFile))
	p.Path, p.Err = path, err
	return p
}

// ErrVersion says that a journal is of another version of the program.
var ErrVersion = errors.New("a journal of another version of zipstamp")

// Read reads a journal. What is cut short at its end is left out.
func Read(from io.Reader) (p Pending, err error) {
	r := bufio.NewReaderSize(from, maxHead)
	first, err := r.ReadSlice('\n')
	want := fmt.Sprintf("%s%d\n", title, Version)
	switch {
	case errors.Is(err, io.EOF) && (strings.HasPrefix(want, string(first)) || zeros(first)):
		return p, nil // it was being made: nothing was written on the card
	case err != nil || !bytes.HasPrefix(first, []byte(title)):
		return p, errors.New("no journal")
	case string(first) != want:
		return p, ErrVersion
	}
	line, err := r.ReadSlice('\n')
	if errors.Is(err, io.EOF) {
		return p, nil // likewise
	}
	if err != nil {
		return p, errors.New("a journal that is damaged: its head has no end")
	}
	if err := json.Unmarshal(line, &p.Head); err != nil {
		return p, fmt.Errorf("a journal that is damaged: %w", err)
	}
	if p.Card.Size <= 0 {
		return p, errors.New("a journal that is damaged: it names no card")
	}
	for {
		batch, err := readBatch(r, p.Card.Size)
		switch {
		case err == nil:
			p.Batches = append(p.Batches, batch)
		case errors.Is(err, errTorn): // whether it was ever begun on the card, that tells
			p.Torn = batch
			return p, nil
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return p, nil
		default:
			return p, err
		}
	}
}

// readBatch reads a batch. The error is io.EOF or io.ErrUnexpectedEOF at the end of what was written whole.
func readBatch(from io.Reader, size int64) ([]Place, error) {
	sum := blake3.New()
	r := io.TeeReader(from, sum)
	head := make([]byte, len(opener)+4)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	count := binary.LittleEndian.Uint32(head[len(opener):])
	if string(head[:len(opener)]) != opener || count > maxPlaces {
		return nil, errDamaged(from)
	}
	var places []Place
	for range count {
		var at [perPlace]byte
		if _, err := io.ReadFull(r, at[:]); err != nil {
			return nil, eof(err)
		}
		offset, n := int64(binary.LittleEndian.Uint64(at[:])), int64(binary.LittleEndian.Uint32(at[8:]))
		if n > maxPlace || offset < 0 || offset > size-n || n%mark.Size != 0 || offset%mark.Size != 0 {
			return nil, errDamaged(from)
		}
		data := make([]byte, n)
		if _, err := io.ReadFull(r, data); err != nil {
			return nil, eof(err)
		}
		places = append(places, Place{offset, data})
	}
	want := sum.Sum(nil)
	got := make([]byte, len(want))
	if _, err := io.ReadFull(from, got); err != nil {
		return nil, eof(err)
	}
	if bytes.Equal(got, want) {
		return places, nil
	}
	if err := errDamaged(from); !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, err
	}
	return places, errTorn
}

// errTorn is the error of the last batch, if all of it is there and doesn't agree with its digest.
var errTorn = errors.New("the last batch doesn't agree with its digest")

// errDamaged is the error of a batch that makes no sense: if nothing follows it but zeros, it is the end of a file
// whose last writing was cut short by a power cut.
func errDamaged(rest io.Reader) error {
	left, err := io.ReadAll(io.LimitReader(rest, maxFile))
	if err == nil && zeros(left) {
		return io.ErrUnexpectedEOF
	}
	return errors.New("a journal that is damaged: a batch doesn't agree with its digest")
}

// zeros tells whether there is nothing else: a file system may have given room to a file that was never filled.
func zeros(b []byte) bool {
	return !slices.ContainsFunc(b, func(b byte) bool { return b != 0 })
}

// eof is the error of a file that ends within a batch.
func eof(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
