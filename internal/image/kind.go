package image

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"html"
	"strings"
	"unicode/utf8"
)

// headSize is how much of a file's or image's start is looked at to know what it is: up to and with
// the btrfs superblock at 64 KiB.
const headSize = 72 << 10

// strangers are known by bytes at fixed places, and are never a disk.
var strangers = []struct {
	at   int
	mark string
	what string
}{
	{0, "\x7fELF", "a program (ELF)"},
	{0, "\xcf\xfa\xed\xfe", "a program (Mach-O)"},
	{0, "\xca\xfe\xba\xbe", "a program (Mach-O or Java)"},
	{0, "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "an installer or office document"},
	{0, "#!", "a script"},
	{0, "%PDF-", "a PDF document"},
	{0, "!<arch>\n", "a software package"},
	{0, "\xed\xab\xee\xdb", "a software package (RPM)"},
	{0, "7z\xbc\xaf\x27\x1c", "a 7z archive"},
	{0, "Rar!\x1a\x07", "a RAR archive"},
	{0, "PK\x03\x04", "a zip archive"},
	{0, "\x1f\x8b\x08", "a gzip file"},
	{0, "\xfd7zXZ\x00", "an xz file"},
	{0, "\x28\xb5\x2f\xfd", "a zstd file"},
	{0, "\x04\x22\x4d\x18", "an lz4 file"},
	{0, "\x89PNG\r\n\x1a\n", "a picture (PNG)"},
	{0, "\xff\xd8\xff", "a picture (JPEG)"},
	{0, "GIF8", "a picture (GIF)"},
	{257, "ustar", "a tar archive"},
	{56, "ARM\x64", "a Linux kernel (64-bit ARM)"},            // Documentation/arch/arm64/booting.rst
	{0x24, "\x18\x28\x6f\x01", "a Linux kernel (32-bit ARM)"}, // Documentation/arch/arm/booting.rst, zImage
	{0x38, "RSC\x05", "a Linux kernel (RISC-V)"},              // Documentation/arch/riscv/boot-image-header.rst
	{0, "\xd0\x0d\xfe\xed", "a device tree"},                  // Devicetree Specification 0.4 section 5.2
	{0, "\x27\x05\x19\x56", "a file for a boot loader"},
	{0, "070701", "an initial file system (cpio)"},
}

// disks are byte strings that partition tables and file systems have, where a disk may start with them.
var disks = []struct {
	at   int
	mark string
}{
	{510, "\x55\xaa"},          // MBR, or FAT boot sector
	{512, "EFI PART"},          // GPT, 512-byte sectors (UEFI 2.10 section 5.3.2)
	{4096, "EFI PART"},         // GPT, 4096-byte sectors
	{0, "hsqs"},                // squashfs
	{1080, "\x53\xef"},         // ext2, ext3, ext4
	{32769, "CD001"},           // ISO 9660 (ECMA-119 section 8.1)
	{64<<10 + 64, "_BHRfS_M"},  // btrfs
	{1024, "\x10\x20\xf5\xf2"}, // f2fs
	{0, "XFSB"},                // xfs
	{1024, "\xe2\xe1\xf5\xe0"}, // erofs
}

func hasMark(head []byte, at int, mark string) bool {
	return len(head) >= at+len(mark) && string(head[at:at+len(mark)]) == mark
}

// isDisk tells whether head is the start of a disk with a partition table or file system.
func isDisk(head []byte) bool {
	if isKernelX86(head) {
		return false
	}
	for _, d := range disks {
		if hasMark(head, d.at, d.mark) {
			return true
		}
	}
	return false
}

// stranger says what head is the start of, if that is something that no disk starts with; "" if it
// may be a disk.
func stranger(head []byte) string {
	if isDisk(head) {
		return ""
	}
	for _, s := range strangers {
		if hasMark(head, s.at, s.mark) {
			return s.what
		}
	}
	if isKernelX86(head) {
		return "a Linux kernel (x86)"
	}
	if isWindowsProgram(head) {
		return "a program (Windows)"
	}
	return textKind(head)
}

// isKernelX86 tells a kernel that has a boot sector's signature (Documentation/arch/x86/boot.rst, "header" at 0x202).
func isKernelX86(head []byte) bool { return hasMark(head, 0x202, "HdrS") }

// isWindowsProgram looks for the PE signature where the MS-DOS header says it is (PE format, "MS-DOS stub").
func isWindowsProgram(head []byte) bool {
	if len(head) < 0x40 || !bytes.HasPrefix(head, []byte("MZ")) {
		return false
	}
	at := binary.LittleEndian.Uint32(head[0x3C:])
	return int64(at) < int64(len(head)) && hasMark(head, int(at), "PE\x00\x00")
}

// textKind tells web pages and other text; a disk isn't text for 512 bytes.
func textKind(head []byte) string {
	text := head[:min(len(head), 512)]
	if len(text) == 0 {
		return ""
	}
	for _, b := range text {
		if b < ' ' && b != '\t' && b != '\n' && b != '\r' && b != '\f' && b != 0x1b {
			return ""
		}
	}
	if !utf8.Valid(text[:lastWhole(text)]) {
		return ""
	}
	text = bytes.ToLower(bytes.TrimLeft(text, "\xef\xbb\xbf \t\r\n"))
	for _, tag := range []string{"<!doctype html", "<html", "<head", "<body", "<!--", "<script", "<title", "<meta"} {
		if bytes.HasPrefix(text, []byte(tag)) {
			return "a web page" + title(head)
		}
	}
	if bytes.HasPrefix(text, []byte("<?xml")) {
		return "an XML document"
	}
	return "text"
}

// titleMax bounds the title of a page that is shown, in bytes.
const titleMax = 80

// title is that of a web page, as an addition to a sentence; empty if the page's start has none.
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
	if words == "" {
		return ""
	}
	for len(words) > titleMax {
		_, size := utf8.DecodeLastRuneInString(words)
		words = words[:len(words)-size]
	}
	return fmt.Sprintf(" (%q)", words)
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

// partitionsEnd is where the last partition of an MBR ends, in bytes; 0 without one. A protective entry
// (GPT) covers the disk, whatever its size, so it counts for nothing.
func partitionsEnd(head []byte) int64 {
	const table, entry, sector = 446, 16, 512 // classic generic MBR, as in UEFI 2.10 section 5.2.1
	if !hasMark(head, 510, "\x55\xaa") {
		return 0
	}
	var end int64
	for i := range 4 {
		e := head[table+i*entry:][:entry]
		kind := e[4]
		if e[0]&0x7F != 0 { // neither active nor inactive: a boot sector of a file system, not an MBR
			return 0
		}
		if kind != 0 && kind != 0xEE {
			start, count := binary.LittleEndian.Uint32(e[8:]), binary.LittleEndian.Uint32(e[12:])
			end = max(end, (int64(start)+int64(count))*sector)
		}
	}
	return end
}
