package digest

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// GarbledError is a text that is no digest, but nearly one: a digit too many or too few, or characters that look like
// digits. Slip tells whether it stands for a digest that is known.
type GarbledError struct {
	Near   Algorithm // the one that it has the length of, but for a digit
	Digits string    // lower case, with look-alikes put right
	Alikes string    // which look-alikes there are: "O at place 3"; empty if there are none
	Err    error     // what is wrong
}

func (e *GarbledError) Error() string { return e.Err.Error() }

func (e *GarbledError) Unwrap() error { return e.Err }

// alikes are characters that look like hex digits, or are such digits in another script or width.
var alikes = map[rune]byte{
	'O': '0', 'o': '0', 'О': '0', 'о': '0', 'Ο': '0', 'ο': '0', '٠': '0', 'l': '1', 'I': '1', '|': '1', 'І': '1',
	'і': '1', 'Ι': '1', '١': '1', 'S': '5', 's': '5', 'Z': '2', 'z': '2', 'а': 'a', 'А': 'a', 'Α': 'a', 'α': 'a',
	'В': 'b', 'Β': 'b', 'Ь': 'b', 'ь': 'b', 'с': 'c', 'С': 'c', 'Ϲ': 'c', 'ԁ': 'd', 'е': 'e', 'Е': 'e', 'Ε': 'e',
	'ε': 'e', 'З': '3', 'з': '3', 'б': '6', 'ƒ': 'f', 'Ғ': 'f', 'q': '9',
	'g': '9',
}

// alike is the hex digit that r looks like.
func alike(r rune) (byte, bool) {
	switch {
	case r >= '０' && r <= '９': // full width
		return byte('0' + r - '０'), true
	case r >= 'Ａ' && r <= 'Ｆ':
		return byte('a' + r - 'Ａ'), true
	case r >= 'ａ' && r <= 'ｆ':
		return byte('a' + r - 'ａ'), true
	}
	d, ok := alikes[r]
	return d, ok
}

// garbled makes a GarbledError of digits that are wrong by err, if they are nearly right.
func garbled(digits string, err error) error {
	var fixed, found strings.Builder
	place := 0
	for _, r := range digits {
		place++
		if strings.ContainsRune(hexDigits, r) {
			fixed.WriteRune(r)
			continue
		}
		d, ok := alike(r)
		if !ok {
			return err
		}
		fixed.WriteByte(d)
		if found.Len() > 0 {
			found.WriteString(", ")
		}
		fmt.Fprintf(&found, "%c at place %d", r, place)
	}
	n := utf8.RuneCountInString(fixed.String())
	for _, near := range []int{n, n - 1, n + 1} {
		if a := byHexLength(near); a != 0 {
			return &GarbledError{a, strings.ToLower(fixed.String()), found.String(), err}
		}
	}
	return err
}

// Slip says how given could have come from right by one slip of whoever copied it: a digit that is missing, doubled,
// exchanged with its neighbour, or another one. Both are hex digits in lower case. It is empty if they differ more than
// that, or not at all: two digests that were computed are never so near each other.
func Slip(given, right string) string {
	at := 0
	for at < len(given) && at < len(right) && given[at] == right[at] {
		at++
	}
	g, r := given[at:], right[at:]
	switch {
	case len(g) == len(r) && len(g) > 0 && g[1:] == r[1:]:
		return fmt.Sprintf("digit %d is %c in place of %c", at+1, g[0], r[0])
	case len(g) == len(r) && len(g) > 1 && g[0] == r[1] && g[1] == r[0] && g[2:] == r[2:]:
		return fmt.Sprintf("digits %d and %d are exchanged", at+1, at+2)
	case len(g)+1 == len(r) && g == r[1:]:
		return fmt.Sprintf("digit %d is missing", at+1)
	case len(g) == len(r)+1 && g[1:] == r:
		return fmt.Sprintf("there is a digit too many near place %d", at+1)
	}
	return ""
}

const hexDigits = "0123456789abcdefABCDEF"
