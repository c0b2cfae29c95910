package image

import (
	"archive/tar"
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"zipstamp/internal/layout"
)

var tarMark = layout.Mark{At: 257, Bytes: "ustar"}

var tarPacking = packing{
	name:    "tar",
	endings: []string{".tar"},
	kind:    ArchiveTar,
	archive: true,
	// POSIX.1-2017, pax, "ustar Interchange Format"
	match: func(head []byte) bool { return (tarMark.In(head) || isOldTar(head)) && !isDisk(head) },
	look:  lookTar,
	walk:  func(r *bufio.Reader) walker { return tarWalker{tar.NewReader(r)} },
	unpack: func(r *bufio.Reader, s setting) (*layer, error) {
		in := &counted{r: r}
		t := &tarImage{tarScan: tarScan{r: tar.NewReader(in), setting: s}, in: in}
		var err error
		if t.header, t.body, err = t.next(); err == io.EOF {
			err = t.notFound()
		}
		if err != nil {
			return nil, err
		}
		l := &layer{
			ReadCloser: io.NopCloser(t), member: t.header.Name, size: Size{t.header.Size, Exact}, unchecked: true,
		}
		if isSparse(t.header) {
			l.skipZeros = t.skipZeros
		}
		return l, nil
	},
}

// isOldTar tells an archive of the form before POSIX, which has no mark: its first header has a name, and a checksum
// that is right (the sum of its bytes, with spaces in the checksum's place, as octal digits).
func isOldTar(head []byte) bool {
	const block, at, end = 512, 148, 156
	if len(head) < block || head[0] == 0 {
		return false
	}
	want, err := strconv.ParseInt(strings.Trim(string(head[at:end]), " \x00"), 8, 32)
	sum := int64(0)
	for i, b := range head[:block] {
		if i >= at && i < end {
			b = ' '
		}
		sum += int64(b)
	}
	return err == nil && sum == want
}

// lookTar goes through a file's headers, which is soon done where there is nothing to unpack.
func lookTar(f *File, wanted string) (Contents, error) {
	s := setting{path: f.Path, member: wanted, limit: f.limit()}
	t := tarScan{r: tar.NewReader(io.NewSectionReader(f.file, 0, f.Size)), setting: s}
	var images []member
	whole := false
	for {
		h, _, err := t.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Contents{}, err
		}
		images = append(images, member{name: h.Name})
		whole = whole || t.found == wholeDisk
	}
	switch {
	case len(images) == 0, t.boot != "" && !whole:
		return Contents{}, t.notFound()
	case len(images) > 1 && wanted == "":
		return Contents{}, &ChoiceError{Path: f.Path, Members: memberNames(images)}
	case len(images) > 1:
		return Contents{}, &ChoiceError{Path: f.Path, Wanted: wanted, Members: memberNames(images)}
	}
	return Contents{Packing: "tar"}, nil
}

// tarScan goes from image to image in an archive that is read as a stream.
type tarScan struct {
	r *tar.Reader
	setting
	seen  []member // members so far, not all if there are many
	count int
	files int64
	boot  string // a file that boards start by; empty if none was seen
	found probed // what the image is that next gave last
}

// next goes on to the next image: a member that starts like one, or is named like one, or is the one asked for. io.EOF
// says that there is none.
func (t *tarScan) next() (*tar.Header, *bufio.Reader, error) {
	for {
		h, err := nextInTar(t.r)
		if err != nil {
			return nil, nil, err
		}
		if t.count++; t.count > membersMax {
			return nil, nil, tooManyMembers(t.path)
		}
		if h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeGNUSparse || h.Size == 0 || isLitter(h.Name) {
			continue
		}
		t.files++
		if t.member == "" && t.boot == "" && isBootFile(h.Name) {
			t.boot = h.Name
		}
		if len(t.seen) < peeksMax {
			t.seen = append(t.seen, member{name: h.Name, size: h.Size})
		}
		body := bufio.NewReaderSize(t.r, int(min(probeSize, max(h.Size, 512))))
		if t.member != "" {
			if isCalled(h.Name, t.member) {
				return h, body, nil
			}
			continue
		}
		start, err := body.Peek(int(min(probeSize, h.Size)))
		if err != nil {
			return nil, nil, early(err)
		}
		t.found = probe(start, t.setting)
		if t.found == wholeDisk || t.boot == "" && (t.found == fileSystem || t.found == unknown &&
			hasImageName(h.Name)) { // beside boot files, what is named like an image is a kernel
			return h, body, nil
		}
	}
}

// nextInTar reads the next header.
func nextInTar(r *tar.Reader) (*tar.Header, error) {
	h, err := r.Next()
	if errors.Is(err, tar.ErrHeader) {
		err = errors.New("a header of the tar archive is not well formed")
	}
	return h, err
}

// tarWalker goes through all that has a name in an archive.
type tarWalker struct{ r *tar.Reader }

func (t tarWalker) next() (Member, io.Reader, error) {
	h, err := nextInTar(t.r)
	if err != nil {
		return Member{}, nil, err
	}
	m := Member{Name: h.Name, Size: h.Size, Modified: h.ModTime}
	switch h.Typeflag {
	case tar.TypeReg, tar.TypeGNUSparse:
		return m, t.r, nil
	case tar.TypeDir:
		m.Kind = MemberFolder
	case tar.TypeLink, tar.TypeSymlink:
		m.Kind = MemberLink
	default:
		m.Kind = MemberSpecial
	}
	m.Size = 0
	return m, nil, nil
}

// notFound says what the archive holds in place of the image.
func (t *tarScan) notFound() error {
	if t.member != "" {
		return &ChoiceError{Path: t.path, Wanted: t.member, Members: memberNames(t.seen)}
	}
	if t.boot != "" {
		return &UnusableError{Path: t.path, Why: HoldsBootFiles, Name: t.boot, Count: t.files}
	}
	return noImage("tar", t.seen, t.setting)
}

// isSparse tells whether a member has holes: by its type, or by a record of its extended header (GNU tar, "Storing
// Sparse Files").
func isSparse(h *tar.Header) bool {
	for record := range h.PAXRecords {
		if strings.HasPrefix(record, "GNU.sparse.") {
			return true
		}
	}
	return h.Typeflag == tar.TypeGNUSparse
}

// counted counts what is read.
type counted struct {
	r     io.Reader
	count int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.count += int64(n)
	return n, err
}

// tarImage is an image in an archive. At its end it goes on to the archive's end: there must be no other image.
type tarImage struct {
	tarScan
	in     *counted // the archive
	header *tar.Header
	body   *bufio.Reader
	ahead  []byte // what was read in vain to find a hole; it comes after what body holds
	room   []byte
	err    error
}

func (t *tarImage) Read(p []byte) (int, error) {
	if t.err != nil {
		return 0, t.err
	}
	if t.body.Buffered() == 0 && len(t.ahead) > 0 {
		n := copy(p, t.ahead)
		t.ahead = t.ahead[n:]
		return n, nil
	}
	n, err := t.body.Read(p)
	if err == io.EOF {
		err = t.rest()
	}
	t.err = err
	return n, err
}

// skipZeros tells whether the next n bytes are in a hole, and skips them then. The library expands holes itself: what
// it gives without having read of the archive is in one.
func (t *tarImage) skipZeros(n int64) bool {
	held := t.body.Buffered()
	if t.err != nil || len(t.ahead) > 0 || int64(held) > n {
		return false
	}
	read, err := t.body.Peek(held)
	if err != nil || !allZero(read) {
		return false
	}
	n -= int64(held)
	if int64(len(t.room)) < n {
		t.room = make([]byte, n)
	}
	before := t.in.count
	got, err := io.ReadFull(t.r, t.room[:n]) // an error comes again
	if err != nil || t.in.count != before {
		t.ahead = t.room[:got]
		return false
	}
	_, _ = t.body.Discard(held) // it is there
	return true
}

func (t *tarImage) rest() error {
	whole := t.found == wholeDisk
	h, _, err := t.next()
	if err == io.EOF && t.boot != "" && !whole {
		return t.notFound()
	}
	if err == nil {
		return &ChoiceError{Path: t.path, Wanted: t.member, Members: []string{t.header.Name, h.Name}}
	}
	if err != io.EOF {
		return fmt.Errorf("after %s: %w", strings.ToValidUTF8(t.header.Name, "?"), err)
	}
	return io.EOF
}
