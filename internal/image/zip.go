package image

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"math"
	"path"
	"slices"
	"strings"

	"github.com/klauspost/compress/flate"
)

// zipPeeks bounds how many members are looked into, from the largest down, to find the image.
const zipPeeks = 64

// zipEncrypted is bit 0 of the general purpose flags (APPNOTE.TXT section 4.4.4).
const zipEncrypted = 1

// zipMethods unpack members, by compression method (APPNOTE.TXT section 4.4.5).
var zipMethods = map[uint16]func(io.Reader) io.ReadCloser{
	zip.Store:   io.NopCloser,
	zip.Deflate: flate.NewReader,
}

// zipMethodNames are the methods that the specification names and that may be met, for messages.
var zipMethodNames = map[uint16]string{
	6: "implode", 9: "deflate64", 12: "bzip2", 14: "LZMA", 93: "zstd", 95: "xz", 98: "PPMd",
}

var zipPacking = packing{
	name:    "zip",
	endings: []string{".zip"},
	match: func(head []byte) bool {
		return bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06"))
	},
	look: lookZip,
}

func lookZip(f *File, wanted string) (Contents, error) {
	z, err := zip.NewReader(f.file, f.Size)
	if errors.Is(err, zip.ErrFormat) {
		return Contents{}, &DamageError{At: f.Size, Truncated: true, Err: errors.New("no zip directory at its end")}
	}
	if err != nil {
		return Contents{}, err
	}
	member, err := chooseMember(f.Path, z.File, wanted)
	if err != nil {
		return Contents{}, err
	}
	if why := zipRefusal(member); why != "" {
		return Contents{}, &UnusableError{f.Path, why, "unpack it with the program that made it, and give the image that comes out"}
	}
	offset, err := member.DataOffset()
	if err != nil {
		return Contents{}, err
	}
	if member.UncompressedSize64 > math.MaxInt64 || member.CompressedSize64 > uint64(f.Size) {
		return Contents{}, fmt.Errorf("the directory's sizes of %s are absurd", member.Name)
	}
	return Contents{
		Packing: "zip",
		Member:  member.Name,
		Size:    Size{int64(member.UncompressedSize64), Exact},
		offset:  offset,
		decode: func(r *packedReader) (io.ReadCloser, error) {
			packed := io.LimitReader(r, int64(member.CompressedSize64))
			return &zipMember{zipMethods[member.Method](packed), member, crc32.NewIEEE(), 0}, nil
		},
	}, nil
}

// chooseMember finds the member that is the image: the one asked for, or the only one that
// has a partition table or file system, or else the only one that is named like an image.
func chooseMember(archive string, all []*zip.File, wanted string) (*zip.File, error) {
	var files []*zip.File
	for _, m := range all {
		// a member that was packed from a pipe says that it is one
		if m.Mode()&(fs.ModeDir|fs.ModeSymlink) == 0 && m.UncompressedSize64 > 0 && !isLitter(m.Name) {
			files = append(files, m)
		}
	}
	if wanted != "" {
		return memberNamed(archive, files, wanted)
	}
	slices.SortStableFunc(files, func(a, b *zip.File) int { return cmpSize(b, a) })
	var disks, named []*zip.File
	for _, m := range files[:min(len(files), zipPeeks)] {
		head, peeked := peek(m)
		switch {
		case peeked && isDisk(head):
			disks = append(disks, m)
		case hasImageName(m.Name) && (!peeked || stranger(head) == ""):
			named = append(named, m)
		}
	}
	if len(disks) == 0 {
		disks = named
	}
	switch {
	case len(disks) == 1:
		return disks[0], nil
	case len(disks) > 1:
		return nil, &ChoiceError{Path: archive, Members: memberNames(disks)}
	case len(files) > 0 && zipRefusal(files[0]) != "":
		return nil, &UnusableError{archive, zipRefusal(files[0]), "unpack it with the program that made it, and give the image that comes out"}
	}
	return nil, &UnusableError{archive, holdings(files), "look for another download, or unpack it and see what it holds"}
}

func cmpSize(a, b *zip.File) int {
	switch {
	case a.UncompressedSize64 < b.UncompressedSize64:
		return -1
	case a.UncompressedSize64 > b.UncompressedSize64:
		return 1
	}
	return 0
}

func memberNamed(archive string, files []*zip.File, wanted string) (*zip.File, error) {
	var based []*zip.File
	for _, m := range files {
		if m.Name == wanted {
			return m, nil
		}
		if path.Base(m.Name) == wanted {
			based = append(based, m)
		}
	}
	if len(based) == 1 {
		return based[0], nil
	}
	if len(based) > 1 {
		files = based
	}
	return nil, &ChoiceError{Path: archive, Wanted: wanted, Members: memberNames(files[:min(len(files), 20)])}
}

func memberNames(files []*zip.File) []string {
	var names []string
	for _, m := range files {
		names = append(names, m.Name)
	}
	slices.Sort(names)
	return names
}

// holdings says what an archive holds in place of an image.
func holdings(files []*zip.File) string {
	if len(files) == 0 {
		return "is a zip archive with no files in it"
	}
	if len(files) == 1 {
		return fmt.Sprintf("holds no image of a disk; its only file is %s (%d bytes)", files[0].Name, files[0].UncompressedSize64)
	}
	return fmt.Sprintf("holds no image of a disk; the largest of its %d files is %s (%d bytes)", len(files), files[0].Name, files[0].UncompressedSize64)
}

// isLitter tells files that some systems add for themselves.
func isLitter(name string) bool {
	return strings.HasPrefix(name, "__MACOSX/") || strings.HasPrefix(path.Base(name), "._")
}

func hasImageName(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".img", ".iso", ".raw", ".wic", ".image", ".sdcard":
		return true
	}
	return false
}

// zipRefusal says why a member can't be unpacked; "" if it can.
func zipRefusal(m *zip.File) string {
	if m.Flags&zipEncrypted != 0 {
		return fmt.Sprintf("is encrypted: %s needs a password", m.Name)
	}
	if zipMethods[m.Method] == nil {
		name := zipMethodNames[m.Method]
		if name == "" {
			name = "unknown"
		}
		return fmt.Sprintf("packs %s by zip method %d (%s), which this version cannot unpack", m.Name, m.Method, name)
	}
	return ""
}

// peek unpacks the first bytes of a member.
func peek(m *zip.File) (head []byte, ok bool) {
	if zipRefusal(m) != "" {
		return nil, false
	}
	packed, err := m.OpenRaw()
	if err != nil {
		return nil, false
	}
	r := zipMethods[m.Method](packed)
	defer r.Close()
	head = make([]byte, headSize)
	n, err := io.ReadFull(r, head)
	return head[:n], err == nil || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

// zipMember unpacks a member and holds its size and CRC-32 against the directory's.
type zipMember struct {
	io.ReadCloser
	file *zip.File
	crc  hash.Hash32
	n    uint64
}

func (m *zipMember) Read(p []byte) (int, error) {
	n, err := m.ReadCloser.Read(p)
	m.crc.Write(p[:n])
	m.n += uint64(n)
	switch {
	case m.n > m.file.UncompressedSize64:
		return 0, errors.New("the member is longer than the zip directory says")
	case err != io.EOF:
		return n, err
	case m.n < m.file.UncompressedSize64:
		return n, errors.New("the member is shorter than the zip directory says")
	case m.crc.Sum32() != m.file.CRC32:
		return n, errors.New("the member's CRC-32 differs from the zip directory's")
	}
	return n, io.EOF
}
