package digest

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Digest is the result of a hash. The zero value is none.
type Digest struct {
	Algorithm Algorithm
	sum       string // raw bytes, as a string so that digests compare with ==
}

// New makes a digest of the bytes that a hash of algorithm a gave.
func New(a Algorithm, sum []byte) Digest { return Digest{a, string(sum)} }

// Hex is the digest in lower case.
func (d Digest) Hex() string { return hex.EncodeToString([]byte(d.sum)) }

// String is the digest with its algorithm, in a form that Parse reads.
func (d Digest) String() string { return d.Algorithm.Plain() + ":" + d.Hex() }

// Parse reads a digest as people paste it: any case, with spaces, line breaks or colons
// between the digits, and perhaps a leading "sha256:" or "SHA256=". The algorithm follows from
// the number of digits, and must be the one named, if one is. A text that is nearly a digest gives a *GarbledError.
func Parse(text string) (Digest, error) {
	named, digits, err := splitName(strings.TrimSpace(text))
	if err != nil {
		return Digest{}, err
	}
	digits = strings.Join(strings.FieldsFunc(digits, func(r rune) bool {
		return r == ':' || r == ' ' || r == '\t' || r == '\n' || r == '\r' || r == '\u00a0'
	}), "")
	d, err := fromHex(digits)
	if err != nil {
		return Digest{}, garbled(digits, err)
	}
	if named != 0 && named != d.Algorithm {
		return Digest{}, fmt.Errorf("%d hex digits are the length of %s, but the text says %s", len(digits),
			d.Algorithm, named)
	}
	return d, nil
}

// splitName takes a leading algorithm name off. Every such name starts with a letter that is
// no hex digit, so it can't be taken for digits.
func splitName(text string) (Algorithm, string, error) {
	if text == "" || strings.ContainsRune("0123456789abcdef", rune(text[0]|0x20)) {
		return 0, text, nil
	}
	end := strings.IndexAny(text, ":= ")
	if end < 0 {
		end = len(text)
	}
	a := byName(text[:end])
	if a == 0 {
		return 0, "", fmt.Errorf("%q is neither hex digits nor a known algorithm (%s)", text[:end], names())
	}
	return a, strings.TrimLeft(text[end:], ":= "), nil
}

func fromHex(digits string) (Digest, error) {
	for i, r := range digits {
		if !strings.ContainsRune(hexDigits, r) {
			return Digest{}, fmt.Errorf("%q at place %d is not a hex digit", r, utf8.RuneCountInString(digits[:i])+1)
		}
	}
	a := byHexLength(len(digits))
	if a == 0 {
		return Digest{}, fmt.Errorf("no known digest has %d hex digits (%s)", len(digits), lengths())
	}
	sum, err := hex.DecodeString(digits)
	return New(a, sum), err
}

func names() string {
	var out []string
	for _, a := range Algorithms() {
		out = append(out, a.String())
	}
	return strings.Join(out, ", ")
}

func lengths() string {
	var out []string
	for _, a := range Algorithms() {
		out = append(out, fmt.Sprintf("%s %d", a, a.Size()*2))
	}
	return strings.Join(out, ", ")
}
