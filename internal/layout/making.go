package layout

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
)

// AlignTo is to what partitions and the data areas of file systems are aligned on cards, bytes: the largest unit that
// flash of today is erased by, and that the SD Association's own layouts use for cards of more than 32 GB.
const AlignTo = 4 << 20

// MostSectors is how many sectors the classic partition table, and FAT, can count.
const MostSectors = 1<<32 - 1

// New is a file system that has been laid out, and is to be made. What it has of its own (boot sectors, tables,
// folders) comes first, from its start on without a gap.
type New interface {
	Kind() FSKind
	PartitionType() byte // by which the classic partition table calls it
	Metadata() io.Reader // what it has of its own
	MetadataSize() int64 // bytes; a multiple of the sector
}

// ErrTooSmall says that a volume is too small for the file system.
var ErrTooSmall = errors.New("too small for the file system")

// labelMost is how long the label of a FAT or exFAT file system may be: bytes of the one, UTF-16 units of the other.
const labelMost = 11

// Label makes a label for a file system of FAT's family of a text. FAT has it in upper case; exFAT leaves it as it is.
// The error says what it can't be.
func Label(kind FSKind, text string) (string, error) {
	label, not := strings.TrimSpace(text), `"*+,./:;<=>?[\]|`
	if kind == ExFATKind {
		not = `"*/:<>?\|`
	} else {
		label = strings.ToUpper(label)
	}
	if len(utf16.Encode([]rune(label))) > labelMost {
		return "", fmt.Errorf("the label %q has more than %d characters", text, labelMost)
	}
	if at := strings.IndexFunc(label, func(r rune) bool {
		return r < ' ' || r == 0x7F || r > '~' && kind != ExFATKind || strings.ContainsRune(not, r)
	}); at >= 0 {
		return "", fmt.Errorf("the label %q has a character that labels of %s can't have", text, kind)
	}
	return label, nil
}

// roundUp is n rounded up to a multiple.
func roundUp(n, multiple int64) int64 { return (n + multiple - 1) / multiple * multiple }

// Whole reads r so that all pieces but the last are as long as was asked for, and so whole sectors if all of it is.
func Whole(r io.Reader) io.Reader { return wholeReader{r} }

type wholeReader struct{ io.Reader }

func (w wholeReader) Read(p []byte) (int, error) {
	n, err := io.ReadFull(w.Reader, p)
	if err == io.ErrUnexpectedEOF {
		err = nil
	}
	return n, err
}

// writeFrom writes all that r gives to w, from an offset on.
func writeFrom(w io.WriterAt, off int64, r io.Reader) error {
	_, err := io.CopyBuffer(struct{ io.Writer }{io.NewOffsetWriter(w, off)}, struct{ io.Reader }{Whole(r)},
		make([]byte, 1<<20))
	return err
}

// Zeros reads as so many zeros.
func Zeros(n int64) io.Reader { return io.LimitReader(zeroReader{}, n) }

type zeroReader struct{}

func (zeroReader) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}
