package image

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"compress/bzip2"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"slices"
	"unicode/utf8"

	"github.com/klauspost/compress/flate"
	"golang.org/x/text/encoding/charmap"

	"zipstamp/internal/image/deflate64"
)

// Constants of the zip format, APPNOTE.TXT 6.3.10.
const (
	zipEncrypted   = 1 << 0 // section 4.4.4, general purpose bit flags
	zipLZMAEnds    = 1 << 1 // likewise, for LZMA: the stream has an end mark
	zipStreamed    = 1 << 3 // likewise: sizes follow the member
	zipLocalHeader = 30     // section 4.3.7, without name and extra field
	zipEndSize     = 22     // section 4.3.16
	zip64EndSize   = 56     // section 4.3.14
	zip64Locator   = 20     // section 4.3.15
	zip64Mark32    = 0xFFFFFFFF
	zipSplit       = "PK\x07\x08"
	zipSpanned     = "PK00"
	zipDeflate64   = 9 // section 4.4.5, compression methods
	zipBZIP2       = 12
	zipLZMA        = 14
	zipZstdOld     = 20
	zipZstd        = 93
	zipXZ          = 95
)

// zipMethods unpack members, by compression method.
var zipMethods = map[uint16]func(r *bufio.Reader, f *zip.File) (io.ReadCloser, error){
	zip.Store:    func(r *bufio.Reader, _ *zip.File) (io.ReadCloser, error) { return io.NopCloser(r), nil },
	zip.Deflate:  func(r *bufio.Reader, _ *zip.File) (io.ReadCloser, error) { return flate.NewReader(r), nil },
	zipDeflate64: func(r *bufio.Reader, _ *zip.File) (io.ReadCloser, error) { return deflate64.NewReader(r), nil },
	zipBZIP2: func(r *bufio.Reader, _ *zip.File) (io.ReadCloser, error) {
		return io.NopCloser(bzip2.NewReader(r)), nil
	},
	zipZstd:    zipByZstd,
	zipZstdOld: zipByZstd,
	zipXZ:      func(r *bufio.Reader, _ *zip.File) (io.ReadCloser, error) { return unpackXZ(r, 1, nil), nil },
	zipLZMA:    zipByLZMA,
}

// zipMethodNames are the methods that the specification names and that may be met, for messages.
var zipMethodNames = map[uint16]string{
	1: "shrink", 6: "implode", 18: "TERSE", 96: "JPEG", 97: "WavPack", 98: "PPMd", 99: "AES encryption",
}

func zipByZstd(r *bufio.Reader, _ *zip.File) (io.ReadCloser, error) {
	l, err := zstdPacking.unpack(r, setting{})
	if err != nil {
		return nil, err
	}
	return l, nil
}

// zipByLZMA makes the header of the .lzma format from that in the member (section 5.8.8): a version, the size of the
// properties, and the properties.
func zipByLZMA(r *bufio.Reader, f *zip.File) (io.ReadCloser, error) {
	var h [9]byte
	if _, err := io.ReadFull(r, h[:]); err != nil {
		return nil, early(err)
	}
	if binary.LittleEndian.Uint16(h[2:]) != 5 {
		return nil, errors.New("the member's LZMA properties are not well formed")
	}
	size := f.UncompressedSize64
	if f.Flags&zipLZMAEnds != 0 {
		size = lzmaUnknown
	}
	header := binary.LittleEndian.AppendUint64(bytes.Clone(h[4:]), size)
	l, err := lzmaPacking.unpack(bufio.NewReader(io.MultiReader(bytes.NewReader(header), r)), setting{})
	if err != nil {
		return nil, err
	}
	return l, nil
}

var zipPacking = packing{
	name:    "zip",
	endings: []string{".zip"},
	kind:    ArchiveZip,
	archive: true,
	total:   zipTotal,
	match: func(head []byte) bool {
		// an archive that was to be split, and has one part after all (section 8.5.3 and 8.5.4)
		for _, mark := range []string{zipSplit, zipSpanned} {
			head = bytes.TrimPrefix(head, []byte(mark))
		}
		return bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06"))
	},
	look:    lookZip,
	members: membersOfZip,
}

func openZip(f *File) (*zip.Reader, error) {
	if err := boundZip(f); err != nil {
		return nil, err
	}
	z, err := zip.NewReader(withoutComment(f))
	if errors.Is(err, zip.ErrFormat) {
		return nil, &DamageError{At: f.Size, Truncated: true, Err: errors.New("no zip directory at its end")}
	}
	return z, err
}

// membersOfZip goes through all that has a name in an archive.
func membersOfZip(r *packedReader) (walker, error) {
	z, err := openZip(r.file)
	if err != nil {
		return nil, err
	}
	d := &directory{open: func(i int) (io.ReadCloser, error) {
		f := z.File[i]
		offset, err := f.DataOffset()
		if err != nil {
			return nil, err
		}
		packed := io.NewSectionReader(&farReader{r}, offset, int64(f.CompressedSize64))
		body, err := zipMethods[f.Method](bufio.NewReaderSize(packed, headRoom), f)
		if err != nil {
			return nil, err
		}
		return newCheckedMember(body, int64(f.UncompressedSize64), f.CRC32, true), nil
	}}
	for _, f := range z.File {
		m := Member{Name: zipName(f), Kind: kindOf(f.Mode()), Modified: f.Modified}
		if m.Kind != MemberFile {
			d.members = append(d.members, m)
			continue
		}
		if e := zipRefusal(f); e != nil {
			return nil, e
		}
		if f.UncompressedSize64 > math.MaxInt64 || f.CompressedSize64 > uint64(r.file.Size) {
			return nil, errors.New("a size in the archive's directory makes no sense")
		}
		m.Size = int64(f.UncompressedSize64)
		d.members = append(d.members, m)
	}
	return d, nil
}

// zipName is the name of a member: what isn't marked as UTF-8, and can be none, is in the code page of the first PCs
// (appendix D).
func zipName(f *zip.File) string {
	name := f.Name
	if f.NonUTF8 && !utf8.ValidString(name) {
		if text, err := charmap.CodePage437.NewDecoder().String(name); err == nil {
			name = text
		}
	}
	return slashed(name)
}

func lookZip(f *File, wanted string) (Contents, error) {
	z, err := openZip(f)
	if err != nil {
		return Contents{}, err
	}
	var members []member
	files := map[string]*zip.File{}
	for _, m := range z.File {
		// a member that was packed from a pipe says that it is one
		if m.Mode()&(fs.ModeDir|fs.ModeSymlink) != 0 || m.UncompressedSize64 > math.MaxInt64 ||
			m.CompressedSize64 > uint64(f.Size) {
			continue
		}
		files[m.Name] = m
		members = append(members, member{m.Name, int64(m.UncompressedSize64), zipRefusal(m), func() (io.ReadCloser,
			error,
		) {
			packed, err := m.OpenRaw()
			if err != nil {
				return nil, err
			}
			return zipMethods[m.Method](bufio.NewReader(packed), m)
		}})
	}
	chosen, err := chooseMember("zip", members, setting{path: f.Path, member: wanted, limit: math.MaxInt64}, peeksMax)
	if err != nil {
		return Contents{}, err
	}
	m := files[chosen.name]
	offset, err := m.DataOffset()
	if err != nil {
		return Contents{}, err
	}
	return Contents{
		Packing: "zip", Size: Size{chosen.size, Exact},
		start: func(r *packedReader, _ setting) (*layer, error) {
			if _, err := io.CopyN(io.Discard, r, offset); err != nil {
				return nil, err
			}
			unpacked, err := zipMethods[m.Method](bufio.NewReaderSize(io.LimitReader(r, int64(m.CompressedSize64)),
				headRoom), m)
			if err != nil {
				return nil, err
			}
			return &layer{
				ReadCloser: newCheckedMember(unpacked, chosen.size, m.CRC32, true),
				member:     chosen.name, size: Size{chosen.size, Exact},
			}, nil
		},
	}, nil
}

// zipEnd finds the end record (section 4.3.16), whose comment goes on to the file's end. Where there are several such,
// the first is it: the others stand in its comment. -1 says that there is none.
func zipEnd(tail []byte) int {
	for at := 0; at+zipEndSize <= len(tail); at++ {
		if bytes.HasPrefix(tail[at:], []byte("PK\x05\x06")) && at+zipEndSize+int(binary.LittleEndian.Uint16(
			tail[at+20:],
		)) == len(tail) {
			return at
		}
	}
	return -1
}

// withoutComment reads a zip file that ends with its end record, since the library takes the last mark for it.
func withoutComment(f *File) (io.ReaderAt, int64) {
	tail := make([]byte, min(f.Size, zipEndSize+math.MaxUint16))
	if _, err := f.file.ReadAt(tail, f.Size-int64(len(tail))); err != nil {
		return inFile{f}, f.Size
	}
	at := zipEnd(tail)
	if at < 0 {
		return inFile{f}, f.Size
	}
	end := f.Size - int64(len(tail)) + int64(at) + zipEndSize
	return uncommented{inFile{f}, end}, end
}

// uncommented is a file up to an end record whose comment is empty.
type uncommented struct {
	io.ReaderAt
	end int64
}

func (u uncommented) ReadAt(p []byte, off int64) (int, error) {
	n, err := u.ReaderAt.ReadAt(p[:max(min(int64(len(p)), u.end-off), 0)], off)
	for at := u.end - 2; at < u.end; at++ { // the length of the comment
		if i := at - off; i >= 0 && i < int64(n) {
			p[i] = 0
		}
	}
	if err == nil && n < len(p) {
		err = io.EOF
	}
	return n, err
}

// boundZip refuses a directory that would take much memory to read. It finds the end record as readers do, from the
// end; a file where it can't be found is left to the library to judge.
func boundZip(f *File) error {
	tail := make([]byte, min(f.Size, zipEndSize+math.MaxUint16+zip64Locator))
	if _, err := f.file.ReadAt(tail, f.Size-int64(len(tail))); err != nil {
		return err
	}
	at := zipEnd(tail)
	if at < 0 { // something follows its end; then the library takes the last
		at = bytes.LastIndex(tail[:max(len(tail)-zipEndSize+4, 0)], []byte("PK\x05\x06"))
	}
	if at < 0 {
		return nil
	}
	records := uint64(binary.LittleEndian.Uint16(tail[at+10:]))
	size := uint64(binary.LittleEndian.Uint32(tail[at+12:]))
	start := uint64(binary.LittleEndian.Uint32(tail[at+16:]))
	if at >= zip64Locator && bytes.HasPrefix(tail[at-zip64Locator:], []byte("PK\x06\x07")) {
		var end [zip64EndSize]byte
		where := binary.LittleEndian.Uint64(tail[at-zip64Locator+8:])
		if where < uint64(f.Size) {
			if _, err := f.file.ReadAt(end[:], int64(where)); err == nil && bytes.HasPrefix(end[:],
				[]byte("PK\x06\x06")) {
				records, size, start = binary.LittleEndian.Uint64(end[32:]), binary.LittleEndian.Uint64(end[40:]),
					binary.LittleEndian.Uint64(end[48:])
			}
		}
	}
	const recordMost = 1 << 10 // name and extra fields of a member, on average
	if records > membersMax || size > membersMax*recordMost {
		return tooManyMembers(f.Path)
	}
	// The library reads records as long as there are some, whatever was said of how many.
	for _, from := range slices.Compact([]int64{int64(start), f.Size - int64(len(tail)-at) - int64(size)}) {
		if from >= 0 && from < f.Size && zipRecords(io.NewSectionReader(f.file, from, f.Size-from)) > membersMax {
			return tooManyMembers(f.Path)
		}
	}
	return nil
}

// zipRecords counts the records of a directory (section 4.3.12), up to more than there may be.
func zipRecords(r io.Reader) (count int) {
	const size = 46
	in := bufio.NewReaderSize(r, 64<<10)
	for ; count <= membersMax; count++ {
		head, err := in.Peek(size)
		if err != nil || !bytes.HasPrefix(head, []byte("PK\x01\x02")) {
			break
		}
		le := binary.LittleEndian
		if _, err := in.Discard(size + int(le.Uint16(head[28:])) + int(le.Uint16(head[30:])) +
			int(le.Uint16(head[32:]))); err != nil {
			break
		}
	}
	return count
}

// zipTotal is how long an archive is at least, going by the header of its first member.
func zipTotal(head []byte) Size {
	if len(head) < zipLocalHeader || !bytes.HasPrefix(head, []byte("PK\x03\x04")) {
		return Size{}
	}
	le := binary.LittleEndian
	packed := le.Uint32(head[18:])
	if le.Uint16(head[6:])&zipStreamed != 0 || packed == zip64Mark32 {
		return Size{}
	}
	return Size{zipLocalHeader + int64(le.Uint16(head[26:])) + int64(le.Uint16(head[28:])) + int64(packed), AtLeast}
}

// zipRefusal says why a member can't be unpacked; nil if it can.
func zipRefusal(m *zip.File) *UnusableError {
	if m.Flags&zipEncrypted != 0 {
		return &UnusableError{Why: Encrypted, Name: m.Name}
	}
	if zipMethods[m.Method] == nil {
		return &UnusableError{
			Why: UnknownMethod, Name: m.Name,
			Method: fmt.Sprintf("%d (%s)", m.Method, cmp.Or(zipMethodNames[m.Method], "unknown")),
		}
	}
	return nil
}
