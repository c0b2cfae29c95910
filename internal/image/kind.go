package image

import (
	"bytes"
	"encoding/binary"
	"html"
	"slices"
	"strings"
	"unicode/utf8"

	"zipstamp/internal/layout"
)

// headSize is how much of a file's or image's start is looked at to know what it is: up to and with
// the btrfs superblock at 64 KiB.
const headSize = 72 << 10

// StrangerKind is a kind of file that no disk starts with.
type StrangerKind string

// The kinds.
const (
	ProgramELF     StrangerKind = "ELF program"
	ProgramMachO   StrangerKind = "Mach-O program"
	ProgramFat     StrangerKind = "Mach-O or Java program"
	OfficeDocument StrangerKind = "office document"
	Script         StrangerKind = "script"
	PDF            StrangerKind = "PDF"
	Package        StrangerKind = "software package"
	PackageRPM     StrangerKind = "RPM package"
	Archive7z      StrangerKind = "7z archive"
	ArchiveRAR     StrangerKind = "RAR archive"
	ArchiveZip     StrangerKind = "zip archive"
	FileGzip       StrangerKind = "gzip file"
	FileXZ         StrangerKind = "xz file"
	FileZstd       StrangerKind = "zstd file"
	FileLZ4        StrangerKind = "lz4 file"
	PicturePNG     StrangerKind = "PNG picture"
	PictureJPEG    StrangerKind = "JPEG picture"
	PictureGIF     StrangerKind = "GIF picture"
	ArchiveTar     StrangerKind = "tar archive"
	KernelARM64    StrangerKind = "kernel for 64-bit ARM"
	KernelARM32    StrangerKind = "kernel for 32-bit ARM"
	KernelRISCV    StrangerKind = "kernel for RISC-V"
	DeviceTree     StrangerKind = "device tree"
	BootLoaderFile StrangerKind = "boot loader file"
	InitialFS      StrangerKind = "initial file system"
	KernelX86      StrangerKind = "kernel for x86"
	ProgramWindows StrangerKind = "Windows program"
	WebPage        StrangerKind = "web page"
	XML            StrangerKind = "XML document"
	Text           StrangerKind = "text"
)

// Stranger is what something is that is no image of a disk; the zero value: nothing is known against it.
type Stranger struct {
	Kind  StrangerKind
	Title string // of a web page; may be empty
}

// Packed tells whether it is a packed file or an archive, so that there may be an image in it.
func (s Stranger) Packed() bool {
	return slices.Contains([]StrangerKind{
		Archive7z, ArchiveRAR, ArchiveZip, ArchiveTar, FileGzip, FileXZ, FileZstd, FileLZ4,
	}, s.Kind)
}

// strangers are known by bytes at fixed places, and are never a disk. Those that are packings are in the table of
// packings.
var strangers = []struct {
	layout.Mark
	kind StrangerKind
}{
	{layout.Mark{At: 0, Bytes: "\x7fELF"}, ProgramELF},
	{layout.Mark{At: 0, Bytes: "\xcf\xfa\xed\xfe"}, ProgramMachO},
	{layout.Mark{At: 0, Bytes: "\xca\xfe\xba\xbe"}, ProgramFat},
	{layout.Mark{At: 0, Bytes: "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"}, OfficeDocument},
	{layout.Mark{At: 0, Bytes: "#!"}, Script},
	{layout.Mark{At: 0, Bytes: "%PDF-"}, PDF},
	{layout.Mark{At: 0, Bytes: "!<arch>\n"}, Package},
	{layout.Mark{At: 0, Bytes: "\xed\xab\xee\xdb"}, PackageRPM},
	{layout.Mark{At: 0, Bytes: "Rar!\x1a\x07"}, ArchiveRAR},
	{layout.Mark{At: 0, Bytes: "\x89PNG\r\n\x1a\n"}, PicturePNG},
	{layout.Mark{At: 0, Bytes: "\xff\xd8\xff"}, PictureJPEG},
	{layout.Mark{At: 0, Bytes: "GIF8"}, PictureGIF},
	{layout.KernelARM64, KernelARM64},
	{layout.KernelARM32, KernelARM32},
	{layout.KernelRISCV, KernelRISCV},
	{layout.DeviceTree, DeviceTree},
	{layout.Mark{At: 0, Bytes: "\x27\x05\x19\x56"}, BootLoaderFile},
	{layout.Mark{At: 0, Bytes: "070701"}, InitialFS},
	{layout.KernelX86, KernelX86},
}

// isDisk tells whether head is the start of a disk with a partition table or file system. Some kernels have a boot
// sector's signature.
func isDisk(head []byte) bool {
	return !layout.KernelX86.In(head) && layout.StartsLikeDisk(head)
}

// strangerOf says what head is the start of, if that is something that no disk starts with.
func strangerOf(head []byte) Stranger {
	if isDisk(head) {
		return Stranger{}
	}
	for _, s := range strangers {
		if s.In(head) {
			return Stranger{Kind: s.kind}
		}
	}
	for _, p := range packings {
		if p.kind != "" && p.match(head) {
			return Stranger{Kind: p.kind}
		}
	}
	if isWindowsProgram(head) {
		return Stranger{Kind: ProgramWindows}
	}
	return textKind(head)
}

// isWindowsProgram looks for the PE signature where the MS-DOS header says it is (PE format, "MS-DOS stub").
func isWindowsProgram(head []byte) bool {
	if len(head) < 0x40 || !bytes.HasPrefix(head, []byte("MZ")) {
		return false
	}
	at := binary.LittleEndian.Uint32(head[0x3C:])
	return int64(at) < int64(len(head)) && (layout.Mark{At: int(at), Bytes: "PE\x00\x00"}).In(head)
}

// textKind tells web pages and other text; a disk isn't text for 512 bytes.
func textKind(head []byte) Stranger {
	text := head[:min(len(head), 512)]
	if len(text) == 0 {
		return Stranger{}
	}
	for _, b := range text {
		if b < ' ' && b != '\t' && b != '\n' && b != '\r' && b != '\f' && b != 0x1b {
			return Stranger{}
		}
	}
	if !utf8.Valid(text[:lastWhole(text)]) {
		return Stranger{}
	}
	text = bytes.ToLower(bytes.TrimLeft(text, "\xef\xbb\xbf \t\r\n"))
	for _, tag := range []string{"<!doctype html", "<html", "<head", "<body", "<!--", "<script", "<title", "<meta"} {
		if bytes.HasPrefix(text, []byte(tag)) {
			return Stranger{WebPage, title(head)}
		}
	}
	if bytes.HasPrefix(text, []byte("<?xml")) {
		return Stranger{Kind: XML}
	}
	return Stranger{Kind: Text}
}

// titleMax bounds the title of a page that is shown, in bytes.
const titleMax = 80

// title is that of a web page; empty if the page's start has none.
func title(head []byte) string {
	lower := bytes.ToLower(head)
	at := bytes.Index(lower, []byte("<title"))
	if at < 0 || len(lower) != len(head) {
		return ""
	}
	_, after, found := bytes.Cut(head[at:], []byte(">"))
	if !found {
		return ""
	}
	after, _, _ = bytes.Cut(after, []byte("<"))
	words := strings.Join(strings.Fields(strings.ToValidUTF8(html.UnescapeString(string(after)), "?")), " ")
	for len(words) > titleMax {
		_, size := utf8.DecodeLastRuneInString(words)
		words = words[:len(words)-size]
	}
	return words
}

// lastWhole is where the last rune of p that isn't cut off ends.
func lastWhole(p []byte) int {
	for n := len(p); n > len(p)-utf8.UTFMax && n > 0; n-- {
		if utf8.RuneStart(p[n-1]) {
			if utf8.FullRune(p[n-1:]) {
				return len(p)
			}
			return n - 1
		}
	}
	return len(p)
}
