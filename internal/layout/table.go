package layout

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"strings"
	"unicode/utf16"
)

// Scheme is the kind of a disk's partition table.
type Scheme string

// The schemes.
const (
	NoTable   Scheme = "none"
	SchemeMBR Scheme = "MBR"
	SchemeGPT Scheme = "GPT"
	Hybrid    Scheme = "hybrid" // a GPT, and an MBR that shows some of its partitions too
)

// Table is a disk's partition table.
type Table struct {
	Scheme Scheme
	Sector int64 // bytes that the table counts in
	// by which disks are told apart: an MBR's signature as 8 hexadecimal digits, a GPT's GUID; empty if there is none
	ID     string
	Parts  []Part
	Damage TableDamage // the zero value if nothing is wrong with it
}

// TableDamage is what is wrong with a partition table.
type TableDamage struct {
	What      TableFault
	Partition int // that it is of, where it is one's
}

// TableFault is a kind of damage.
type TableFault string

// The kinds of damage.
const (
	NoGPT         TableFault = "no GPT where the MBR says so"
	NoLogical     TableFault = "no table of a logical partition"
	HeaderLength  TableFault = "length of the header"
	HeaderCheck   TableFault = "CRC32 of the header"
	HeaderEntries TableFault = "entries by the header"
	NoEntries     TableFault = "no entries"
	EntriesCheck  TableFault = "CRC32 of the entries"
	EntryBounds   TableFault = "bounds of a partition"
)

// Part is a partition.
type Part struct {
	Number        int
	Start, Length int64  // bytes
	Type          string // what the table says that it is, in words
	ID            string // the type's number or GUID
	Name          string // GPT only
	Active        bool   // MBR only: marked to start from
}

// End is the first byte behind the partition.
func (p Part) End() int64 { return p.Start + p.Length }

// End is the first byte behind the last partition.
func (t Table) End() int64 {
	var end int64
	for _, p := range t.Parts {
		end = max(end, p.End())
	}
	return end
}

// Constants of partition tables: UEFI 2.10, section 5.2.1 for the MBR and 5.3 for the GPT.
const (
	BootCode      = 440 // bytes of code at a disk's start, before the MBR's signature and entries
	mbrID         = BootCode
	mbrEntries    = 446
	mbrEntrySize  = 16
	mbrCount      = 4
	mbrEnd        = 510 // where bootMark is
	bootMark      = "\x55\xaa"
	mbrProtective = 0xEE
	gptMark       = "EFI PART"
	gptEntriesMax = 1024 // ours: 128 are usual
	gptEntryMin   = 128
	gptEntryMax   = 4096 // ours
	gptHeaderMin  = 92
	logicalMax    = 128 // ours: logical partitions followed
)

// gptSectors are the sizes of sectors that GPTs are looked for with, bytes. The header is in the second sector.
var gptSectors = []int64{SectorSize, 4096}

// ReadTable reads the partition table of a disk with sectors of so many bytes; size may be 0 where it isn't known. A
// disk without one is no error. Errors are those of r.
//
// A classic table counts the disk's own sectors. But images are made for sectors of 512 bytes, and one that was written
// to a disk with larger sectors has a table that counts these: which of the two it is, the file systems tell.
func ReadTable(r io.ReaderAt, size int64, sector int) (Table, error) {
	own := int64(max(sector, SectorSize))
	t, err := readTable(r, own)
	if err != nil || own == SectorSize || t.Scheme != SchemeMBR || t.fits(r, size) {
		return t, err
	}
	other, err := readTable(r, SectorSize)
	if err == nil && other.fits(r, size) {
		return other, nil
	}
	return t, err
}

// fits tells whether a file system is at the start of a partition, and none goes beyond the disk's end.
func (t Table) fits(r io.ReaderAt, size int64) bool {
	if size > 0 && t.End() > size {
		return false
	}
	for _, p := range t.Parts {
		if isExtended(p.ID) {
			continue
		}
		if fs, err := Identify(io.NewSectionReader(r, p.Start, max(p.Length, 0))); err == nil && fs.Kind != "" {
			return true
		}
	}
	return false
}

// readTable reads a table; a classic one counts sectors of so many bytes.
func readTable(r io.ReaderAt, sector int64) (Table, error) {
	var mbr [SectorSize]byte
	if _, err := r.ReadAt(mbr[:], 0); err != nil {
		return Table{Scheme: NoTable}, notTooShort(err)
	}
	t, protective := ParseMBR(mbr[:], sector)
	if t.Scheme == NoTable || protective {
		gpt, err := readGPT(r, sector)
		if err != nil {
			return t, err
		}
		switch {
		case gpt.Scheme == SchemeGPT && len(t.Parts) > 0:
			gpt.Scheme = Hybrid
			return gpt, nil
		case gpt.Scheme == SchemeGPT:
			return gpt, nil
		case protective:
			t.Damage.What = NoGPT
		}
		return t, nil
	}
	return t, t.addLogical(r)
}

// notTooShort makes nothing of the end of a disk that is shorter than a table.
func notTooShort(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// ParseMBR reads the entries of the MBR that a disk starts with, which count sectors of so many bytes; logical
// partitions are not followed. A boot sector of a file system has none that make sense. protective says that one of
// them stands for a GPT; it is not among the partitions.
func ParseMBR(mbr []byte, sector int64) (t Table, protective bool) {
	none := Table{Scheme: NoTable, Sector: sector}
	if !(Mark{mbrEnd, bootMark}).In(mbr) {
		return none, false
	}
	t = Table{Scheme: SchemeMBR, Sector: sector}
	if id := binary.LittleEndian.Uint32(mbr[mbrID:]); id != 0 {
		t.ID = fmt.Sprintf("%08x", id)
	}
	for i := range mbrCount {
		e := mbr[mbrEntries+i*mbrEntrySize:][:mbrEntrySize]
		if e[0]&0x7F != 0 { // neither active nor inactive
			return none, false
		}
		start, sectors := int64(binary.LittleEndian.Uint32(e[8:])), int64(binary.LittleEndian.Uint32(e[12:]))
		switch {
		case e[4] == 0 || sectors == 0:
		case e[4] == mbrProtective:
			protective = true
		default:
			t.Parts = append(t.Parts, Part{
				Number: i + 1, Start: start * sector, Length: sectors * sector,
				ID: fmt.Sprintf("0x%02X", e[4]), Type: mbrType(e[4]), Active: e[0] == 0x80,
			})
		}
	}
	if len(t.Parts) == 0 && !protective {
		return none, false
	}
	return t, protective
}

// isExtended tells the types of partitions that hold logical ones.
func isExtended(id string) bool { return id == "0x05" || id == "0x0F" || id == "0x85" }

// addLogical follows the chain of logical partitions in an extended one: each has a table of its own with one entry
// for itself and one for the next, counted from the extended partition.
func (t *Table) addLogical(r io.ReaderAt) error {
	for _, p := range t.Parts {
		if !isExtended(p.ID) {
			continue
		}
		for at, n := p.Start, 5; n < 5+logicalMax; n++ {
			var ebr [SectorSize]byte
			if _, err := r.ReadAt(ebr[:], at); err != nil {
				t.Damage = TableDamage{NoLogical, n}
				return notTooShort(err)
			}
			here, _ := ParseMBR(ebr[:], t.Sector)
			if here.Scheme == NoTable {
				break
			}
			next := int64(0)
			for _, e := range here.Parts {
				if isExtended(e.ID) {
					next = p.Start + e.Start
					continue
				}
				e.Number, e.Start = n, at+e.Start
				t.Parts = append(t.Parts, e)
			}
			if next <= at { // it must go on, never back
				break
			}
			at = next
		}
		return nil
	}
	return nil
}

// readGPT looks for a GPT with sectors of either size, the disk's own first: an old header may be left in the place of
// the other.
func readGPT(r io.ReaderAt, own int64) (Table, error) {
	sectors := slices.Clone(gptSectors)
	slices.SortStableFunc(sectors, func(a, b int64) int { return cmp.Compare(max(a-own, own-a), max(b-own, own-b)) })
	for _, sector := range sectors {
		header := make([]byte, SectorSize)
		if _, err := r.ReadAt(header, sector); err != nil {
			return Table{Scheme: NoTable}, notTooShort(err)
		}
		if !bytes.HasPrefix(header, []byte(gptMark)) {
			continue
		}
		t := Table{Scheme: SchemeGPT, Sector: sector}
		return t, t.parseGPT(r, header)
	}
	return Table{Scheme: NoTable}, nil
}

func (t *Table) parseGPT(r io.ReaderAt, header []byte) error {
	le := binary.LittleEndian
	length := le.Uint32(header[12:])
	if length < gptHeaderMin || int64(length) > int64(len(header)) {
		t.Damage.What = HeaderLength
		return nil
	}
	want := le.Uint32(header[16:])
	sealed := bytes.Clone(header[:length])
	clear(sealed[16:20])
	if crc32.ChecksumIEEE(sealed) != want {
		t.Damage.What = HeaderCheck
	}
	t.ID = strings.ToLower(guid(header[56:72]))
	at, count, size := le.Uint64(header[72:]), le.Uint32(header[80:]), le.Uint32(header[84:])
	if count > gptEntriesMax || size < gptEntryMin || size > gptEntryMax || at > 1<<40 {
		t.Damage.What = HeaderEntries
		return nil
	}
	entries := make([]byte, count*size)
	if _, err := r.ReadAt(entries, int64(at)*t.Sector); err != nil {
		t.Damage.What = NoEntries
		return notTooShort(err)
	}
	if crc32.ChecksumIEEE(entries) != le.Uint32(header[88:]) {
		t.Damage.What = EntriesCheck
	}
	for i := range int(count) {
		e := entries[i*int(size):][:size]
		first, last := le.Uint64(e[32:]), le.Uint64(e[40:])
		if bytes.Count(e[:16], []byte{0}) == 16 {
			continue
		}
		if first > last || last > 1<<50/uint64(t.Sector) {
			t.Damage = TableDamage{EntryBounds, i + 1}
			continue
		}
		id := guid(e[:16])
		t.Parts = append(t.Parts, Part{
			Number: i + 1, Start: int64(first) * t.Sector, Length: int64(last-first+1) * t.Sector,
			ID: id, Type: gptType(id), Name: utf16Text(e[56:128]),
		})
	}
	return nil
}

// guid writes a GUID as UEFI 2.10, appendix A has it: the first three fields are little endian.
func guid(b []byte) string {
	le := binary.LittleEndian
	return fmt.Sprintf("%08X-%04X-%04X-%X-%X", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:16])
}

// utf16Text reads little endian UTF-16 up to the first zero.
func utf16Text(b []byte) string {
	var units []uint16
	for i := 0; i+1 < len(b); i += 2 {
		u := binary.LittleEndian.Uint16(b[i:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}

// mbrTypes and gptTypes are those that cards have. The numbers of MBR types are nobody's standard; these are used by
// all. The GUIDs are those of UEFI 2.10 section 5.3.3, and of the Discoverable Partitions Specification.
var mbrTypes = map[byte]string{
	0x01: "FAT12", 0x04: "FAT16", 0x05: "extended", 0x06: "FAT16", 0x07: "exFAT or NTFS", 0x0B: "FAT32", 0x0C: "FAT32",
	0x0E: "FAT16", 0x0F: "extended", 0x82: "Linux swap", 0x83: "Linux", 0x85: "extended", 0x8E: "LVM", 0xA5: "BSD",
	0xA6: "BSD", 0xA9: "BSD", 0xDA: "data", 0xEF: "EFI system", 0xFD: "RAID",
}

func mbrType(id byte) string {
	if t := mbrTypes[id]; t != "" {
		return t
	}
	return fmt.Sprintf("type 0x%02X", id)
}

var gptTypes = map[string]string{
	"C12A7328-F81F-11D2-BA4B-00A0C93EC93B": "EFI system",
	"EBD0A0A2-B9E5-4433-87C0-68B6B72699C7": "basic data",
	"0FC63DAF-8483-4772-8E79-3D69D8477DE4": "Linux",
	"0657FD6D-A4AB-43C4-84E5-0933C84B4F4F": "Linux swap",
	"21686148-6449-6E6F-744E-656564454649": "BIOS boot",
	"BC13C2FF-59E6-4262-A352-B275FD6F7172": "Linux boot",
	"B921B045-1DF0-41C3-AF44-4C6F280D3FAE": "Linux root, 64-bit ARM",
	"69DAD710-2CE4-4E3C-B16C-21A1D49ABED3": "Linux root, 32-bit ARM",
	"72EC70A6-CF74-40E6-BD49-4BDA08E8F224": "Linux root, 64-bit RISC-V",
	"4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709": "Linux root, 64-bit x86",
	"44479540-F297-41B2-9AF7-D131D5F0458A": "Linux root, 32-bit x86",
	"933AC7E1-2EB4-4F13-B844-0E14E2AEF915": "Linux home",
	"E6D6D379-F507-44C2-A23C-238F2A3DF928": "LVM",
	"A19D880F-05FC-4D3B-A006-743F0F84911E": "RAID",
}

func gptType(id string) string {
	if t := gptTypes[id]; t != "" {
		return t
	}
	return "type " + id
}
