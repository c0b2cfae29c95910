// Package register reads the registers by which an SD card says what it is.
//
// The numbers are those of the SD Specifications, Part 1, Physical Layer Simplified Specification (version 9.10):
// section 5.2 for the CID, 5.3 for the CSD, 5.6 for the SCR, 4.10.2 for the SD status, 4.5 for the CRC. Bits are
// counted as there: bit 0 is the last bit of a register.
package register

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"
)

// bits is a register, first byte first.
type bits []byte

// parse reads a register of so many bytes from its hexadecimal digits, as the kernel shows them.
func parse(text string, length int) (bits, error) {
	b, err := hex.DecodeString(strings.TrimSpace(text))
	if err != nil || len(b) != length {
		return nil, fmt.Errorf("%q is no register of %d bytes", text, length)
	}
	return b, nil
}

// field is the number in the bits from high to low, both included; at most 64.
func (b bits) field(high, low int) uint64 {
	var n uint64
	for i := high; i >= low; i-- {
		n = n<<1 | uint64(b[len(b)-1-i/8]>>(i%8)&1)
	}
	return n
}

// CID is the card identification register.
type CID struct {
	Maker    byte   // manufacturer's number, given by the SD association
	OEM      string // two characters, for whom it was made
	Product  string // five characters
	Revision string // of the product: "8.0"
	Serial   uint32
	Year     int        // of manufacture
	Month    time.Month // from 1 to 12, if the card is right
	checksum bool       // wrong
	blank    bool       // all bits are the same
}

// ParseCID reads a CID of 32 hexadecimal digits. The error says that it is none; what makes no sense in it is
// told by Remarks.
func ParseCID(text string) (CID, error) {
	b, err := parse(text, 16)
	if err != nil {
		return CID{}, err
	}
	c := CID{
		Maker: byte(b.field(127, 120)), OEM: printable(b[1:3]), Product: printable(b[3:8]),
		Revision: fmt.Sprintf("%d.%d", b.field(63, 60), b.field(59, 56)), Serial: uint32(b.field(55, 24)),
		Year: 2000 + int(b.field(19, 12)), Month: time.Month(b.field(11, 8)),
	}
	c.blank = strings.Count(string(b[:15]), string(b[:1])) == 15
	// Many host controllers check the CRC themselves, and hand on zeros in its place.
	c.checksum = b[15] != 0 && byte(b.field(7, 1)) != crc7(b[:15])
	return c, nil
}

// printable leaves out what isn't ASCII, and the padding.
func printable(b []byte) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return -1
		}
		return r
	}, string(b)))
}

// crc7 is the check value of registers, with the polynomial x^7 + x^3 + 1.
func crc7(p []byte) byte {
	var crc byte
	for _, b := range p {
		for i := 7; i >= 0; i-- {
			crc <<= 1
			if crc>>7 != b>>i&1 {
				crc ^= 0x09
			}
			crc &= 0x7f
		}
	}
	return crc
}

// Made is the month of manufacture, in words; empty where the card gives none.
func (c CID) Made() string {
	if c.blank || c.Month < 1 || c.Month > 12 {
		return ""
	}
	return fmt.Sprintf("%s %d", c.Month, c.Year)
}

// String has what tells cards apart: maker, OEM, product, serial number.
func (c CID) String() string {
	return fmt.Sprintf("%02x-%s-%s-%08x", c.Maker, c.OEM, c.Product, c.Serial)
}

// Remark is something implausible about a card's registers.
type Remark struct {
	What Oddity
	Says int64  // the month, or what the registers say of the size, bytes
	Is   int64  // what the reader says of the size, bytes
	Made string // the date of manufacture
}

// Oddity is what is implausible.
type Oddity string

// The oddities. A card that is sound has none of them.
const (
	NoCID       Oddity = "empty identification"
	WrongCheck  Oddity = "wrong check value"
	NoMaker     Oddity = "no maker"
	NoProduct   Oddity = "no product name"
	NoSerial    Oddity = "no serial number"
	NoMonth     Oddity = "no such month"
	MadeLater   Oddity = "made in the future"
	OtherLength Oddity = "another size"
)

// Remarks are what makes the register implausible at a time.
func (c CID) Remarks(now time.Time) []Remark {
	if c.blank {
		return []Remark{{What: NoCID}}
	}
	var all []Remark
	if c.checksum {
		all = append(all, Remark{What: WrongCheck})
	}
	if c.Maker == 0 {
		all = append(all, Remark{What: NoMaker})
	}
	if c.Product == "" {
		all = append(all, Remark{What: NoProduct})
	}
	if c.Serial == 0 || c.Serial == 1<<32-1 {
		all = append(all, Remark{What: NoSerial})
	}
	switch {
	case c.Month < 1 || c.Month > 12:
		all = append(all, Remark{What: NoMonth, Says: int64(c.Month)})
	case time.Date(c.Year, c.Month, 1, 0, 0, 0, 0, time.UTC).After(now):
		all = append(all, Remark{What: MadeLater, Made: c.Made()})
	}
	return all
}

// CSD is what the card-specific data register says of the capacity.
type CSD struct {
	Size      int64  // bytes
	Family    string // "SDSC", "SDHC or SDXC", "SDUC"
	Protected bool   // by the register, for the time being or for good
}

// ParseCSD reads a CSD of 32 hexadecimal digits.
func ParseCSD(text string) (CSD, error) {
	b, err := parse(text, 16)
	if err != nil {
		return CSD{}, err
	}
	c := CSD{Protected: b.field(13, 12) != 0}
	switch version := b.field(127, 126); version {
	case 0:
		blocks := int64(b.field(73, 62)+1) << (b.field(49, 47) + 2)
		c.Family, c.Size = "SDSC", blocks<<b.field(83, 80)
	case 1:
		c.Family, c.Size = "SDHC or SDXC", int64(b.field(69, 48)+1)<<19
	case 2:
		c.Family, c.Size = "SDUC", int64(b.field(75, 48)+1)<<19
	default:
		return c, fmt.Errorf("card-specific data of an unknown version %d", version)
	}
	return c, nil
}

// SpecOf is the version of the specification that a card follows, by its SCR of 16 hexadecimal digits: "3.0".
func SpecOf(text string) (string, error) {
	b, err := parse(text, 8)
	if err != nil {
		return "", err
	}
	spec, three, four, x := b.field(59, 56), b.field(47, 47), b.field(42, 42), b.field(41, 38)
	switch {
	case spec == 0:
		return "1.0", nil
	case spec == 1:
		return "1.1", nil
	case spec == 2 && three == 0:
		return "2.0", nil
	case spec == 2 && x > 0:
		return fmt.Sprintf("%d", 4+x), nil
	case spec == 2 && four == 1:
		return "4", nil
	case spec == 2:
		return "3.0", nil
	}
	return "", errors.New("a version of the SCR that is not known")
}

// speedClasses by their code in the SD status; -1 is none that is known.
var speedClasses = []int{0, 2, 4, 6, 10}

// Marks are the speed marks that a card claims, by its SD status of 128 hexadecimal digits: "Class 10", "U3", "V30",
// "A2". There may be none.
func Marks(text string) ([]string, error) {
	b, err := parse(text, 64)
	if err != nil {
		return nil, err
	}
	var all []string
	if code := b.field(447, 440); code > 0 && code < uint64(len(speedClasses)) {
		all = append(all, fmt.Sprintf("Class %d", speedClasses[code]))
	}
	if grade := b.field(399, 396); grade == 1 || grade == 3 {
		all = append(all, fmt.Sprintf("U%d", grade))
	}
	switch video := b.field(391, 384); video {
	case 6, 10, 30, 60, 90:
		all = append(all, fmt.Sprintf("V%d", video))
	}
	if app := b.field(339, 336); app == 1 || app == 2 {
		all = append(all, fmt.Sprintf("A%d", app))
	}
	return all, nil
}

// SD is an SD card by its registers, as far as the kernel shows them.
type SD struct {
	CID   CID
	CSD   CSD
	Spec  string   // empty where it isn't known
	Marks []string // of speed
}

// Read reads the registers; get gives each one's hexadecimal digits by its name in sysfs, and "" for those that aren't
// there. It returns false if there is no CID.
func Read(get func(name string) string) (SD, bool) {
	var s SD
	var err error
	if s.CID, err = ParseCID(get("cid")); err != nil {
		return s, false
	}
	s.CSD, _ = ParseCSD(get("csd")) // the others are shown where they are known
	s.Spec, _ = SpecOf(get("scr"))
	s.Marks, _ = Marks(get("ssr"))
	return s, true
}

// Remarks are what is implausible about a card of so many bytes, at a time.
func (s SD) Remarks(size int64, now time.Time) []Remark {
	all := s.CID.Remarks(now)
	if s.CSD.Size > 0 && size > 0 && s.CSD.Size != size {
		all = append(all, Remark{What: OtherLength, Says: s.CSD.Size, Is: size})
	}
	return all
}
