package image

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"strings"

	"github.com/bodgit/sevenzip"
	"github.com/ulikunitz/xz/lzma"

	"zipstamp/internal/image/deflate64"
	"zipstamp/internal/image/xz"
)

// Constants of the 7z format, 7zFormat.txt of its authors' LZMA SDK.
const (
	sevenZipStart     = 32 // "SignatureHeader"
	sevenZipEncoded   = 0x17
	sevenZipHeaderMax = 16 << 20 // ours: bytes of a header, packed or not
	sevenZipPeeks     = 8        // members that are looked into: each may have to be unpacked from far before it
)

var sevenZipPacking = packing{
	name:    "7z",
	endings: []string{".7z"},
	kind:    Archive7z,
	archive: true,
	total:   sevenZipTotal,
	match:   func(head []byte) bool { return bytes.HasPrefix(head, []byte("7z\xbc\xaf\x27\x1c")) },
	look:    look7z,
	members: members7z,
}

// Our own decoder takes the place of the library's, which is slower and asks for any dictionary.
func init() {
	sevenzip.RegisterDecompressor([]byte{0x21}, unpack7zLZMA2)
	sevenzip.RegisterDecompressor([]byte{3, 1, 1}, unpack7zLZMA)
	sevenzip.RegisterDecompressor([]byte{4, 1, 9}, unpack7zDeflate64)
}

func unpack7zLZMA2(properties []byte, size uint64, in []io.ReadCloser) (io.ReadCloser, error) {
	if len(in) != 1 || len(properties) != 1 || properties[0] > 40 || size > math.MaxInt64 {
		return nil, errors.New("the archive's LZMA2 properties are not well formed")
	}
	dict := (2 | int64(properties[0]&1)) << (properties[0]/2 + 11)
	if err := bound7zDict(dict); err != nil {
		return nil, err
	}
	return coder7z{xz.NewLZMA2Reader(bufio.NewReader(in[0]), dict, int64(size)), in[0]}, nil
}

func unpack7zLZMA(properties []byte, size uint64, in []io.ReadCloser) (io.ReadCloser, error) {
	if len(in) != 1 || len(properties) != 5 {
		return nil, errors.New("the archive's LZMA properties are not well formed")
	}
	if err := bound7zDict(int64(binary.LittleEndian.Uint32(properties[1:]))); err != nil {
		return nil, err
	}
	header := binary.LittleEndian.AppendUint64(bytes.Clone(properties), size)
	r, err := lzma.NewReader(bufio.NewReader(io.MultiReader(bytes.NewReader(header), in[0])))
	return coder7z{r, in[0]}, err
}

func unpack7zDeflate64(_ []byte, _ uint64, in []io.ReadCloser) (io.ReadCloser, error) {
	if len(in) != 1 {
		return nil, errors.New("the archive's coders are not well formed")
	}
	return coder7z{deflate64.NewReader(in[0]), in[0]}, nil
}

func bound7zDict(dict int64) error {
	if dict > windowMax {
		return &UnusableError{Why: NeedsMemory, Bytes: dict, Most: windowMax}
	}
	return nil
}

type coder7z struct {
	io.Reader
	io.Closer
}

// open7z opens the archive in a file, which is read by from. The library may panic on what it doesn't expect, so that
// is an error here.
func open7z(f *File, from io.ReaderAt) (archive *sevenzip.Reader, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the archive's header is not well formed (%v)", p)
		}
	}()
	if total := sevenZipTotal(f.head); total.Bytes > f.Size {
		return nil, &DamageError{At: f.Size, Truncated: true, Err: io.ErrUnexpectedEOF}
	}
	if err := bound7z(f); err != nil {
		return nil, err
	}
	if archive, err = sevenzip.NewReader(from, f.Size); err != nil {
		return nil, err7z(err)
	}
	if len(archive.File) > membersMax {
		return nil, tooManyMembers(f.Path)
	}
	return archive, nil
}

func look7z(f *File, wanted string) (c Contents, err error) {
	archive, err := open7z(f, inFile{f})
	if err != nil {
		return c, err
	}
	var members []member
	index := map[string]int{}
	for i, m := range archive.File {
		if m.FileInfo().Mode().IsRegular() && m.UncompressedSize <= math.MaxInt64 {
			index[m.Name] = i
			members = append(members, member{m.Name, int64(m.UncompressedSize), nil, m.Open})
		}
	}
	chosen, err := chooseMember("7z", members, setting{path: f.Path, member: wanted, limit: math.MaxInt64},
		sevenZipPeeks)
	if err != nil {
		return c, err
	}
	return Contents{
		Packing: "7z", Size: Size{chosen.size, Exact},
		start: func(r *packedReader, _ setting) (*layer, error) { return start7z(r, index[chosen.name]) },
	}, nil
}

// start7z opens the archive again, so that what was read of it before is forgotten, and how far it has been read is
// known. The archive's parts stand where its directory says, so they are read on their own, and what the tap is to see
// is read after them.
func start7z(r *packedReader, index int) (*layer, error) {
	archive, err := open7z(r.file, &farReader{r})
	if err != nil {
		return nil, err
	}
	m := archive.File[index]
	body, err := openMember7z(r.file, archive, index)
	if err != nil {
		return nil, err
	}
	return &layer{
		ReadCloser: body, member: m.Name, size: Size{int64(m.UncompressedSize), Exact}, unchecked: m.CRC32 == 0,
	}, nil
}

func openMember7z(f *File, archive *sevenzip.Reader, index int) (r io.ReadCloser, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the archive is not well formed (%v)", p)
		}
	}()
	m := archive.File[index]
	body, err := m.Open()
	if err != nil {
		return nil, err7z(err)
	}
	return &member7z{newCheckedMember(body, int64(m.UncompressedSize), m.CRC32, m.CRC32 != 0), f, index}, nil
}

// members7z goes through all that has a name in an archive.
func members7z(r *packedReader) (walker, error) {
	archive, err := open7z(r.file, &farReader{r})
	if err != nil {
		return nil, err
	}
	d := &directory{open: func(i int) (io.ReadCloser, error) { return openMember7z(r.file, archive, i) }}
	for _, f := range archive.File {
		m := Member{Name: slashed(f.Name), Kind: kindOf(f.Mode()), Modified: f.Modified}
		if f.UncompressedSize > math.MaxInt64 {
			return nil, errors.New("the archive's header is not well formed")
		}
		if m.Kind == MemberFile {
			m.Size = int64(f.UncompressedSize)
		}
		d.members = append(d.members, m)
	}
	return d, nil
}

// member7z names the errors of the library.
type member7z struct {
	*checkedMember
	file  *File
	index int
}

func (m *member7z) Read(p []byte) (n int, err error) {
	defer func() {
		if p := recover(); p != nil {
			n, err = 0, fmt.Errorf("the archive is not well formed (%v)", p)
		}
	}()
	n, err = m.checkedMember.Read(p)
	if err != nil && err != io.EOF {
		if err = err7z(err); !errors.As(err, new(*UnusableError)) && isEncrypted7z(m.file, m.index) {
			err = &UnusableError{Why: Encrypted}
		}
	}
	return n, err
}

// isEncrypted7z tells whether a member is encrypted, of which something was wrong. What is unpacked without its
// password may be anything, also a whole stream that is too short, and the library tells of encryption only where it
// isn't. That this is so for several passwords is next to impossible.
func isEncrypted7z(f *File, index int) (yes bool) {
	defer func() { _ = recover() }()
	const enough = 1 << 20 // bytes that show it
	for _, password := range []string{"1", "2", "3"} {
		archive, err := sevenzip.NewReaderWithPassword(inFile{f}, f.Size, password)
		if err == nil {
			var body io.ReadCloser
			if body, err = archive.File[index].Open(); err == nil {
				_, err = io.CopyN(io.Discard, body, enough)
				err = errors.Join(err, body.Close())
			}
		}
		if read := (*sevenzip.ReadError)(nil); errors.As(err, &read) && read.Encrypted {
			return true
		}
	}
	return false
}

func err7z(err error) error {
	var read *sevenzip.ReadError
	if errors.As(err, &read) && read.Encrypted {
		return &UnusableError{Why: Encrypted}
	}
	// the library has no error of its own for it
	if err != nil && strings.Contains(err.Error(), "unsupported compression algorithm") {
		return &UnusableError{Why: UnknownMethod}
	}
	return err
}

// farReader reads anywhere in the file, and remembers how far.
type farReader struct{ r *packedReader }

func (f *farReader) ReadAt(p []byte, at int64) (int, error) {
	n, err := inFile{f.r.file}.ReadAt(p, at)
	if end := at + int64(n); end > f.r.far.Load() {
		f.r.far.Store(end)
	}
	return n, err
}

// sevenZipTotal is how long an archive is, going by its start.
func sevenZipTotal(head []byte) Size {
	if len(head) < sevenZipStart || crc32.ChecksumIEEE(head[12:sevenZipStart]) != binary.LittleEndian.Uint32(head[8:]) {
		return Size{}
	}
	offset, size := binary.LittleEndian.Uint64(head[12:]), binary.LittleEndian.Uint64(head[20:])
	if offset > math.MaxInt64/4 || size > math.MaxInt64/4 {
		return Size{}
	}
	return Size{sevenZipStart + int64(offset+size), Exact}
}

// bound7z refuses a header that would take much memory to read: a long one, or one that is packed and long.
func bound7z(f *File) error {
	if len(f.head) < sevenZipStart {
		return nil // the library says what is wrong
	}
	if sevenZipTotal(f.head) == (Size{}) {
		return errors.New("the archive's first header is not well formed")
	}
	offset, size := binary.LittleEndian.Uint64(f.head[12:]), binary.LittleEndian.Uint64(f.head[20:])
	if size > sevenZipHeaderMax {
		return tooManyMembers(f.Path)
	}
	header := make([]byte, size)
	if n, err := f.file.ReadAt(header, int64(sevenZipStart+offset)); err != nil && n < len(header) {
		return &DamageError{At: f.Size, Truncated: true, Err: io.ErrUnexpectedEOF}
	}
	if unpackedHeader7z(header) > sevenZipHeaderMax {
		return tooManyMembers(f.Path)
	}
	return nil
}

// unpackedHeader7z finds the largest number in a packed header's description: the sizes that it unpacks to are among
// them, and none that is right is much larger. 0 if the header isn't packed.
func unpackedHeader7z(header []byte) uint64 {
	if len(header) == 0 || header[0] != sevenZipEncoded {
		return 0
	}
	sizes := bytes.IndexByte(header, 0x0C) // kCodersUnpackSize
	if sizes < 0 {
		return 0
	}
	var most uint64
	for p := header[sizes+1:]; len(p) > 0 && p[0] != 0x0A && p[0] != 0; { // until kCRC or kEnd
		n, length := number7z(p)
		most = max(most, n)
		p = p[length:]
	}
	return most
}

// number7z reads a number: the ones at the top of the first byte tell how many bytes follow, little endian, and the
// bits below them are its highest.
func number7z(p []byte) (n uint64, length int) {
	first, mask := p[0], byte(0x80)
	for i := range 8 {
		if first&mask == 0 {
			return n + uint64(first&(mask-1))<<(8*i), i + 1
		}
		if i+1 >= len(p) {
			return math.MaxUint64, len(p)
		}
		n |= uint64(p[i+1]) << (8 * i)
		mask >>= 1
	}
	return n, 9
}
