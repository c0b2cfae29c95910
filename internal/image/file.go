// Package image knows what a download is: how it is packed, by its contents and not by its name, how
// large it is when unpacked, which member of an archive is the image, and whether it is an image at
// all. It unpacks as a stream, so that no unpacked copy is needed.
package image

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"zipstamp/internal/layout"
)

// File is a download, open for reading. It can be looked at and unpacked any number of times, by one
// goroutine at a time; one that comes through a pipe can be unpacked once.
type File struct {
	Path  string
	Size  int64 // bytes of the download, as it is packed; of a pipe, what has been read so far
	Total int64 // of one that arrives: how long it will be, bytes; 0: not known
	Limit int64 // bytes that it may unpack to; 0 is a bound that is sensible for a file of its size
	Lanes int   // blocks that may be unpacked side by side; 0 is as many as there are cores
	Keep  int64 // bytes that Unpack may keep in memory of what it unpacks, for TakeKept
	file  *os.File
	pipe  *bufio.Reader // where it comes through a pipe
	once  bool
	head  []byte
	info  fs.FileInfo

	kept *keeper // nil: nothing

	looked map[string]look // by member: what Look has found
	any    bool            // what is unpacked needn't be an image
	files  bool            // it is an archive whose files are wanted
}

// Anything gives the file as one of which anything is unpacked, be it an image or not, so that its digest can be
// computed.
func (f *File) Anything() *File {
	g := *f
	g.any, g.looked = true, map[string]look{}
	return &g
}

// ForItsFiles gives the file as an archive whose files are wanted, so that Look looks for no image in it.
func (f *File) ForItsFiles() *File {
	g := *f
	g.files, g.looked = true, map[string]look{}
	return &g
}

// HoldsDisk tells whether an image of a disk with a partition table is in the file, or the first member of an archive
// that may be an image is one; and its name there.
func (f *File) HoldsDisk() (member string, is bool) {
	c, err := f.start("")
	if err != nil || f.once {
		return "", false
	}
	s, err := f.unpack(c, nil, setting{path: f.Path, lanes: 1, limit: math.MaxInt64})
	if err != nil {
		return "", false
	}
	defer s.Close()
	return s.stack.member(), layout.HasTable(s.stack.head)
}

// look is an answer of Look.
type look struct {
	contents Contents
	err      error
}

// Input is the name that stands for the standard input.
const Input = "-"

// Open opens the download at path; Input is what comes in by stdin. The error is an *OpenError or one of the file
// system; what the file holds is found by Look.
func Open(path string) (*File, error) {
	if path == Input {
		return openInput(os.Stdin)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, &OpenError{path, Folder}
	}
	if !info.Mode().IsRegular() {
		return nil, &OpenError{path, NotFile}
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	return newFile(path, file, info)
}

func newFile(path string, file *os.File, info fs.FileInfo) (*File, error) {
	f := &File{
		Path: path, Size: info.Size(), file: file, info: info, head: make([]byte, headSize), looked: map[string]look{},
	}
	n, err := file.ReadAt(f.head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		file.Close()
		return nil, err
	}
	f.head = f.head[:n]
	return f, nil
}

// openInput takes what comes in: a file, if that is where it comes from, or a pipe, of which the start is read.
func openInput(in *os.File) (*File, error) {
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	if at, err := in.Seek(0, io.SeekCurrent); info.Mode().IsRegular() && err == nil && at == 0 {
		return newFile(Input, in, info)
	}
	if info.Mode()&fs.ModeCharDevice != 0 {
		return nil, &OpenError{Input, NoStream}
	}
	return newPipe(&File{Path: Input, file: in, info: info}, in)
}

// Arriving is a download that is unpacked while it arrives, once, as what comes through a pipe is. path is where it
// will be, and total how long it is, bytes; 0 where that isn't known.
func Arriving(path string, r io.Reader, total int64) (*File, error) {
	return newPipe(&File{Path: path, Total: total}, r)
}

// newPipe reads the start of what comes.
func newPipe(f *File, r io.Reader) (*File, error) {
	f.once, f.pipe, f.looked = true, bufio.NewReaderSize(r, probeSize), map[string]look{}
	head, err := f.pipe.Peek(headSize)
	if err != nil && err != io.EOF {
		return nil, err
	}
	f.head = bytes.Clone(head)
	if len(head) == 0 {
		return nil, &OpenError{f.Path, NoBytes}
	}
	return f, nil
}

// Close closes the file.
func (f *File) Close() error {
	if f.file == nil {
		return nil
	}
	return f.file.Close()
}

// Length is how long the download is, or will be, bytes; of one that arrives what is known of that.
func (f *File) Length() int64 { return max(f.Size, f.Total) }

// Start is the first bytes of the file, at most 72 KiB.
func (f *File) Start() []byte { return f.head }

// Once tells whether the file comes through a pipe, and can be unpacked only once.
func (f *File) Once() bool { return f.once }

// pipeReader counts what comes through a pipe.
type pipeReader struct{ f *File }

func (p pipeReader) Read(b []byte) (int, error) {
	n, err := p.f.pipe.Read(b)
	p.f.Size += int64(n)
	return n, err
}

// Same tells whether path is this very file.
func (f *File) Same(path string) bool {
	info, err := os.Stat(path)
	return err == nil && os.SameFile(info, f.info)
}

// Changed tells whether the file is not as long any more as when it was opened, or was written since by what its file
// system says.
func (f *File) Changed() bool {
	if f.once {
		return false
	}
	now, err := f.file.Stat()
	return err != nil || now.Size() != f.info.Size() || !now.ModTime().Equal(f.info.ModTime())
}

// ModTime is when the file was last changed, as its file system says; empty for a pipe.
func (f *File) ModTime() string {
	if f.once {
		return ""
	}
	return f.info.ModTime().UTC().Format("2006-01-02T15:04:05Z")
}

// Packing is the name of the packing that the file's first bytes show.
func (f *File) Packing() string { return f.packing().name }

func (f *File) packing() packing { return packingOf(f.head) }

// partials are the endings that browsers and download programs give to a file until it is whole.
var partials = []string{".part", ".partial", ".crdownload", ".download", ".opdownload", ".filepart", ".unconfirmed"}

// Partial is the ending that tells that a download was not finished; empty if the name has none.
func (f *File) Partial() string {
	for _, ending := range partials {
		if hasEnding(f.Path, ending) {
			return f.Path[len(f.Path)-len(ending):]
		}
	}
	return ""
}

func hasEnding(name, ending string) bool {
	return len(name) > len(ending) && strings.EqualFold(name[len(name)-len(ending):], ending)
}

// Names are the names under which the image may have been published: that of the file, and those without
// the endings of its packings, and of a download that isn't finished.
func (f *File) Names() []string {
	if f.Path == Input {
		return []string{Input} // as digest commands write it
	}
	return withoutEndings(filepath.Base(f.Path))
}

// NamesOf are the names under which what is in a file with a name may have been published: that name, and those without
// the endings of packings.
func NamesOf(name string) []string { return withoutEndings(name) }

func withoutEndings(name string) []string {
	names := []string{name}
	for range layersMax {
		short := ""
		for _, ending := range append(partials, allEndings()...) {
			if hasEnding(name, ending) {
				short = name[:len(name)-len(ending)]
				break
			}
		}
		if short == "" {
			break
		}
		names, name = append(names, short), short
	}
	return names
}

// UnpacksTo tells by the names of two files whether the first may be packed, and unpack to the second: os.img.xz to
// os.img, and os.zip to os.img.
func UnpacksTo(packed, unpacked string) bool {
	names := withoutEndings(packed)
	if len(names) < 2 || packed == unpacked {
		return false
	}
	if slices.Contains(names[1:], unpacked) {
		return true
	}
	stem := strings.TrimSuffix(unpacked, path.Ext(unpacked))
	return hasImageName(unpacked) && slices.Contains(names[1:], stem)
}

func allEndings() []string {
	var all []string
	for _, p := range packings {
		all = append(all, p.endings...)
	}
	return all
}

// Names adds to the names of the file those of the image within it.
func (c Contents) Names(f *File) []string {
	names := f.Names()
	if c.Member == "" {
		return names
	}
	within := withoutEndings(path.Base(strings.ReplaceAll(c.Member, `\`, "/")))
	if len(within) > 1 && !c.memberIsImage() {
		within = within[1:] // nobody computes the digest of what lies between the download and its image
	}
	return append(names, within...)
}

// memberIsImage tells whether the member is the image itself, and not packed once more.
func (c Contents) memberIsImage() bool {
	innermost, _, _ := strings.Cut(c.Packing, " in ")
	return packingNamed(innermost).archive
}

// Look finds out what is in the file, without unpacking more than the first bytes, and remembers it. member
// names the image within an archive; it may be empty where there is only one.
// The error is a *DamageError, *UnusableError or *ChoiceError, or one of reading.
func (f *File) Look(member string) (Contents, error) {
	found, done := f.looked[member]
	if !done {
		found.contents, found.err = f.look(member)
		f.looked[member] = found
	}
	return found.contents, found.err
}

func (f *File) look(member string) (Contents, error) {
	if f.Size == 0 && !f.once {
		return Contents{}, &UnusableError{Path: f.Path, Why: Empty}
	}
	if f.files && !f.any {
		return Contents{}, &UnusableError{Path: f.Path, Why: TakenApart}
	}
	c, err := f.start(member)
	if err != nil {
		return c, err
	}
	return f.lookInside(c, member)
}

// start finds out how to unpack the outermost layer.
func (f *File) start(member string) (Contents, error) {
	p := f.packing()
	if p.name == RawPacking {
		if other := strangerOf(f.head); other.Kind != "" && !f.any {
			return Contents{}, &UnusableError{Path: f.Path, Why: IsOther, Other: other}
		}
	}
	c := Contents{Packing: p.name}
	var err error
	switch {
	case p.unpack == nil && f.once:
		return c, &UnusableError{Path: f.Path, Why: NeedsFile, Packing: p.name}
	case p.look != nil && !f.once:
		c, err = p.look(f, member)
	}
	if err != nil {
		return c, f.name(err, p.name, 0)
	}
	if c.start == nil {
		c.start = func(r *packedReader, s setting) (*layer, error) { return p.unpack(r.Reader, s) }
	}
	c.asked = member
	return c, nil
}

// lookInside unpacks the first bytes.
func (f *File) lookInside(c Contents, member string) (Contents, error) {
	set := setting{path: f.Path, member: member, lanes: 1, limit: math.MaxInt64, any: f.any}
	if f.once {
		return f.lookIntoPipe(c, set)
	}
	s, err := f.unpack(c, nil, set)
	if err != nil {
		return c, err
	}
	defer s.Close()
	if c, err = f.describe(c, s.stack, member); err != nil {
		return c, err
	}
	p := f.packing()
	if c.Member == "" || member != "" || p.walk != nil || p.members != nil || f.any || layout.HasTable(s.stack.head) {
		return c, nil
	}
	return c, f.bootFilesBeside()
}

// bootFilesBeside goes through an archive that is packed in one stream, and whose first member that may be an image has
// no partition table: it may be a kernel among other files. The error says so.
func (f *File) bootFilesBeside() error {
	m, err := f.Members(nil)
	if err != nil {
		return err
	}
	defer m.Close()
	boot, count := "", int64(0)
	for {
		switch one, err := m.Next(); {
		case err == io.EOF && boot != "":
			return &UnusableError{Path: f.Path, Why: HoldsBootFiles, Name: boot, Count: count}
		case err == io.EOF:
			return nil
		case err != nil:
			return err
		case one.Kind == MemberFile:
			count++
			if boot == "" && isBootFile(one.Name) {
				boot = one.Name
			}
		}
	}
}

// lookIntoPipe unpacks what has been read of a pipe. It may end before it tells anything: that is no damage.
func (f *File) lookIntoPipe(c Contents, set setting) (Contents, error) {
	start, err := f.pipe.Peek(probeSize)
	if err != nil && err != io.EOF {
		return c, err
	}
	first, err := f.packing().unpack(bufio.NewReaderSize(bytes.NewReader(start), headRoom), set)
	if err == nil {
		var st *stack
		if st, err = descend(first, c.Packing, set); err == nil {
			defer st.Close()
			return f.describe(c, st, set.member)
		}
	}
	if len(start) == probeSize && (errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)) {
		return c, nil
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return c, &DamageError{
			Path: f.Path, Packing: c.Packing, At: int64(len(start)), Truncated: true, Err: io.ErrUnexpectedEOF,
		}
	}
	return c, f.name(err, c.Packing, 0)
}

// describe adds to what a file says of itself what its first bytes show.
func (f *File) describe(c Contents, st *stack, member string) (Contents, error) {
	if member != "" && st.member() == "" {
		return c, &UnusableError{Path: f.Path, Why: HoldsOne}
	}
	if len(st.layers) > 1 || c.Size.Certainty == Unknown {
		c.Size = st.size()
	}
	c.Packing, c.Member, c.Recognised, c.Unchecked = st.packing(), st.member(), st.recognised, st.unchecked()
	return c, nil
}

// Bounds of what a file may unpack to where no other is set: images of systems pack to a third, and a card that is
// nearly empty, copied whole, to a five-hundredth.
const (
	limitLeast = 16 << 30
	limitRatio = 1000
	limitPipe  = 2 << 40
)

// limit is how many bytes the file may unpack to.
func (f *File) limit() int64 {
	switch {
	case f.Limit > 0:
		return f.Limit
	case f.once:
		return limitPipe
	}
	return max(limitLeast, limitRatio*min(f.Size, math.MaxInt64/limitRatio), f.Size)
}

// Shortfall tells by how many bytes a raw image is shorter than its own partition table says; 0 if it isn't.
func (f *File) Shortfall() int64 {
	if f.Packing() != RawPacking || f.once {
		return 0
	}
	table, _ := layout.ParseMBR(f.head, layout.SectorSize)
	return max(table.End()-f.Size, 0)
}

// total is how long the file is according to what it says itself.
func (f *File) total() Size {
	if total := f.packing().total; total != nil && !f.once {
		return total(f.head)
	}
	return Size{}
}

// Other says what the file is, where it is no image of a disk.
func (f *File) Other() Stranger {
	if f.Packing() != RawPacking {
		return Stranger{}
	}
	return strangerOf(f.head)
}

// Reader reads the file as it was downloaded: from its start, or what has not been read yet of a pipe.
func (f *File) Reader() io.Reader {
	if f.once {
		return pipeReader{f}
	}
	return io.NewSectionReader(f.file, 0, f.Size)
}

// inFile reads anywhere in a file, where what it says itself leads to. An offset that can't be is no error of the file
// system.
type inFile struct{ *File }

func (f inFile) ReadAt(p []byte, at int64) (int, error) {
	if at < 0 {
		return 0, errors.New("an offset in it makes no sense")
	}
	return f.file.ReadAt(p, at)
}

// damage is an error of unpacking the file; one that comes to an end too early was cut short.
func (f *File) damage(err error, packing string, at int64) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return &DamageError{
			Path: f.Path, Packing: packing, At: f.Size, Truncated: true, Total: f.total(), Err: io.ErrUnexpectedEOF,
		}
	}
	return f.name(err, packing, at)
}

// name completes an error of a decoder with what it was about. at is the offset for an error that knows none.
func (f *File) name(err error, packing string, at int64) error {
	var pathErr *fs.PathError
	var damage *DamageError
	var unusable *UnusableError
	var placed *placedError
	var foreign *trailingError
	switch {
	case errors.As(err, &foreign):
		return &DamageError{
			Path: f.Path, Packing: packing, At: max(f.Size-foreign.count, 0), Trailing: foreign.count, Err: foreign,
		}
	case errors.As(err, &damage):
		damage.Path, damage.Packing = f.Path, packing
		if damage.Truncated {
			damage.Total = f.total()
		}
		return damage
	case errors.As(err, &unusable):
		unusable.Path = f.Path
		return unusable
	case errors.As(err, new(*ChoiceError)), errors.As(err, &pathErr):
		return err
	case errors.As(err, &placed) && placed.packing == f.Packing(): // the outermost, so the place is one in the file
		damage = &DamageError{
			Path: f.Path, Packing: packing, At: placed.at, Truncated: errors.Is(err, io.ErrUnexpectedEOF),
			Err: placed.err,
		}
		if damage.Truncated {
			damage.Total = f.total()
		}
		return damage
	}
	return &DamageError{Path: f.Path, Packing: packing, At: at, Err: err}
}
