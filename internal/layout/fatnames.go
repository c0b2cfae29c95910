package layout

import (
	"encoding/binary"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Limits of names (Microsoft's "FAT: General Overview of On-Disk Format", 1.03, section "Naming Conventions and Long
// Names").
const (
	longNameMost = 255 // UTF-16 units
	pathMost     = 259 // likewise, of a path with its drive's letter: 260 with the zero at its end
	drivePath    = 3   // units of those for the drive: C:\
	longNamePart = 13  // units in an entry of a long name
	longNameLast = 0x40
)

// FileFault is a kind of reason why a file can't be in a FAT file system.
type FileFault string

// The kinds, and what the Detail of a FileError is.
const (
	FileTooLarge FileFault = "too large"                   // 4 GiB and more
	NameInvalid  FileFault = "character"                   // that FAT can't have in names; "": no UTF-8
	NameTooLong  FileFault = "name too long"               //
	NameEnds     FileFault = "space or period at its edge" // which systems leave out
	PathTooLong  FileFault = "path too long"               //
	// another path, from which only the case differs, if anything
	NameTwice  FileFault = "same name"
	FolderFull FileFault = "folder full" // the path is the folder's
)

// FileError says that a FAT file system can't hold a file.
type FileError struct {
	Path   string
	Why    FileFault
	Detail string
}

func (e *FileError) Error() string {
	if e.Detail != "" {
		return fmt.Sprintf("%s: %s (%s)", e.Path, e.Why, e.Detail)
	}
	return fmt.Sprintf("%s: %s", e.Path, e.Why)
}

// nameFault says why a part of a path can be no name; nil if it can.
func nameFault(path, name string) error {
	if !utf8.ValidString(name) {
		return &FileError{path, NameInvalid, ""}
	}
	for _, r := range name {
		if r < ' ' || r == 0x7F || strings.ContainsRune(`"*/:<>?\|`, r) {
			return &FileError{path, NameInvalid, string(r)}
		}
	}
	switch {
	case name == "" || strings.HasSuffix(name, ".") || strings.HasSuffix(name, " ") || strings.HasPrefix(name, " "):
		return &FileError{path, NameEnds, ""}
	case units(name) > longNameMost:
		return &FileError{path, NameTooLong, ""}
	case units(path)+drivePath > pathMost:
		return &FileError{path, PathTooLong, ""}
	}
	return nil
}

// units is how long a text is in UTF-16.
func units(text string) int { return len(utf16.Encode([]rune(text))) }

// folded is a name as those are compared that differ in nothing but the case of their letters.
func folded(name string) string { return strings.Map(unicode.ToUpper, name) }

// shortChars are what short names may have besides letters and digits (section "Short Directory Entry Names").
const shortChars = "$%'-_@~`!(){}^#&"

func inShort(r rune) bool {
	return r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || strings.ContainsRune(shortChars, r)
}

// splitName is a name without what short names can't have, in upper case, before and after its last period.
func splitName(name string) (base, ext string, lossy bool) {
	trimmed := strings.TrimLeft(name, ".")
	lossy = trimmed != name
	clean := func(s string) string {
		return strings.ToUpper(strings.Map(func(r rune) rune {
			switch {
			case r == ' ' || r == '.':
				lossy = true
				return -1
			case !inShort(r):
				lossy = true
				return '_'
			}
			return r
		}, s))
	}
	if at := strings.LastIndexByte(trimmed, '.'); at >= 0 {
		return clean(trimmed[:at]), clean(trimmed[at+1:]), lossy
	}
	return clean(trimmed), "", lossy
}

// shortName is 11 characters as an entry has them.
func shortName(base, ext string) string { return fmt.Sprintf("%-8s%-3s", base, ext) }

// shortNames gives each name of a folder a short one, which is no other's: its own, if that is short, and otherwise
// its start with a number.
func shortNames(names []string) []string {
	short := make([]string, len(names))
	used := map[string]bool{}
	var long []int
	for i, name := range names {
		base, ext, lossy := splitName(name)
		if lossy || base == "" || len(base) > 8 || len(ext) > 3 {
			long = append(long, i)
			continue
		}
		short[i] = shortName(base, ext)
		used[short[i]] = true
	}
	next := map[string]int{} // by the start of the name: the number to try
	for _, i := range long {
		base, ext, _ := splitName(names[i])
		ext = ext[:min(len(ext), 3)]
		key := shortName(base[:min(len(base), 6)], ext)
		for n := max(next[key], 1); ; n++ {
			tail := fmt.Sprintf("~%d", n)
			short[i] = shortName(base[:min(len(base), 8-len(tail))]+tail, ext)
			if !used[short[i]] {
				used[short[i]], next[key] = true, n+1
				break
			}
		}
	}
	return short
}

// needsLong tells whether the short name leaves something of a name out, be it only its case.
func needsLong(name, short string) bool {
	whole := strings.TrimRight(short[:8], " ")
	if ext := strings.TrimRight(short[8:], " "); ext != "" {
		whole += "." + ext
	}
	return name != whole
}

// longEntries is how many entries the long name takes.
func longEntries(name string) int { return (units(name) + longNamePart - 1) / longNamePart }

// shortSum is the checksum of a short name that the entries of the long one have.
func shortSum[T string | []byte](short T) (sum byte) {
	for i := range 11 {
		sum = sum>>1 | sum<<7
		sum += short[i]
	}
	return sum
}

// appendLong appends the entries of a long name, the last part first (section "Long Directory Entries").
func appendLong(entries []byte, name, short string) []byte {
	text := utf16.Encode([]rune(name))
	count := longEntries(name)
	padded := make([]uint16, count*longNamePart)
	for i := range padded {
		if i > len(text) {
			padded[i] = 0xFFFF // after the zero that ends it
		}
	}
	copy(padded, text)
	for i := count; i >= 1; i-- {
		e := make([]byte, dirEntrySize)
		e[0], e[11], e[13] = byte(i), attrLongName, shortSum(short)
		if i == count {
			e[0] |= longNameLast
		}
		part := padded[(i-1)*longNamePart:]
		for _, at := range []struct{ offset, count int }{{1, 5}, {14, 6}, {28, 2}} {
			for j := range at.count {
				binary.LittleEndian.PutUint16(e[at.offset+2*j:], part[j])
			}
			part = part[at.count:]
		}
		entries = append(entries, e...)
	}
	return entries
}
