package practice

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Size is a number of bytes, written as "64 MB", "32 MiB" or "4096".
type Size int64

// ParseSize reads a size; it must be a whole number of bytes.
func ParseSize(text string) (Size, error) {
	number := strings.TrimSpace(text)
	n, err := humanize.ParseBytes(number)
	switch {
	case strings.Contains(number, ","): // which the library would leave out: 20,5MB would be 205 MB
		return 0, fmt.Errorf(
			"%q is not a size: write it without commas, and with a point for fractions, such as 20.5MB", text,
		)
	case err != nil || n > math.MaxInt64:
		return 0, fmt.Errorf("%q is not a size such as 64MB, 32GiB or 4096", text)
	}
	if n == 0 && strings.ContainsAny(number, "123456789") || strings.Contains(number, ".") && !wholeBytes(number, n) {
		return 0, fmt.Errorf("%q is not a whole number of bytes", text)
	}
	return Size(n), nil
}

// wholeBytes tells whether a size with a decimal point lost nothing when it was read: half a byte
// more must give a number that reads as the same.
func wholeBytes(text string, n uint64) bool {
	end := strings.IndexFunc(text, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
	if end < 0 {
		end = len(text)
	}
	number, err := strconv.ParseFloat(text[:end], 64)
	unit, err2 := humanize.ParseBytes("1" + text[end:])
	return err == nil && err2 == nil && number*float64(unit) == float64(n)
}

// String writes the size in the largest unit that divides it.
func (s Size) String() string {
	for _, u := range []struct {
		bytes Size
		name  string
	}{{1e12, "TB"}, {1 << 40, "TiB"}, {1e9, "GB"}, {1 << 30, "GiB"}, {1e6, "MB"}, {1 << 20, "MiB"}, {1 << 10, "KiB"}} {
		if s >= u.bytes && s%u.bytes == 0 {
			return fmt.Sprintf("%d %s", s/u.bytes, u.name)
		}
	}
	return fmt.Sprintf("%d B", int64(s))
}

// MarshalText writes the size as String does.
func (s Size) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads what ParseSize does.
func (s *Size) UnmarshalText(text []byte) (err error) {
	*s, err = ParseSize(string(text))
	return err
}

// Rate is a number of bytes a second, written as "20 MB/s".
type Rate int64

// ParseRate reads a rate; the "/s" may be left out.
func ParseRate(text string) (Rate, error) {
	s, err := ParseSize(strings.TrimSuffix(strings.TrimSpace(text), "/s"))
	if err != nil || s == 0 {
		return 0, fmt.Errorf("%q is not a rate such as 20MB/s", text)
	}
	return Rate(s), nil
}

// MarshalText writes the rate in the largest unit that divides it.
func (r Rate) MarshalText() ([]byte, error) { return []byte(Size(r).String() + "/s"), nil }

// UnmarshalText reads what ParseRate does.
func (r *Rate) UnmarshalText(text []byte) (err error) {
	*r, err = ParseRate(string(text))
	return err
}

// Duration is a time, written as "2ms".
type Duration time.Duration

// MarshalText writes the time as time.Duration does.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }

// UnmarshalText reads what time.ParseDuration does.
func (d *Duration) UnmarshalText(text []byte) error {
	t, err := time.ParseDuration(string(text))
	*d = Duration(t)
	return err
}
