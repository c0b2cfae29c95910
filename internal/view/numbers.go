package view

import (
	"fmt"
	"math"
	"time"

	"github.com/dustin/go-humanize"
)

// Bytes is a size for people, in the decimal units that are printed on cards: 48.2 MB.
func Bytes(n int64) string {
	if n < 1000 {
		return fmt.Sprintf("%d B", n)
	}
	return humanize.BytesN(uint64(n), 3)
}

// exact is a size with the number of bytes beside it.
func exact(n int64) string {
	if n < 1000 {
		return Count(n, "byte")
	}
	return fmt.Sprintf("%s (%s bytes)", Bytes(n), humanize.Comma(n))
}

// rate is a speed in MB/s.
func rate(n int64, took time.Duration) string {
	if took <= 0 || n <= 0 {
		return "- MB/s"
	}
	mb := float64(n) / took.Seconds() / 1e6
	if mb >= 99.95 {
		return fmt.Sprintf("%.0f MB/s", mb)
	}
	return fmt.Sprintf("%.1f MB/s", mb)
}

// span is a time for people: 0.4 s, 12 s, 3 min 20 s, 1 h 5 min.
func span(d time.Duration) string {
	switch s := d.Seconds(); {
	case s < 0.05:
		return "less than 0.1 s"
	case s < 9.95:
		return fmt.Sprintf("%.1f s", s)
	case s < 59.5:
		return fmt.Sprintf("%.0f s", s)
	case s < 3599.5:
		whole := int(math.Round(s))
		return fmt.Sprintf("%d min %d s", whole/60, whole%60)
	default:
		minutes := int(math.Round(s / 60))
		return fmt.Sprintf("%d h %d min", minutes/60, minutes%60)
	}
}

// Count is a number of things; the plural has an s.
func Count[N ~int | ~int64](n N, thing string) string {
	if n != 1 {
		thing += "s"
	}
	return humanize.Comma(int64(n)) + " " + thing
}

// place is an offset in bytes.
func place(offset int64) string { return humanize.Comma(offset) }
