package digest

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
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

// Bytes is the digest as the hash gave it.
func (d Digest) Bytes() []byte { return []byte(d.sum) }

// Hex is the digest in lower case.
func (d Digest) Hex() string { return hex.EncodeToString([]byte(d.sum)) }

// String is the digest with its algorithm, in a form that Parse reads.
func (d Digest) String() string { return d.Algorithm.Plain() + ":" + d.Hex() }

// Parse reads a digest as people paste it: any case, in quotes, with spaces, line breaks, colons or hyphens
// between the digits, and perhaps a leading "sha256:", "SHA256=" or "0x". The algorithm follows from
// the number of digits, and must be the one named, if one is. A text that is nearly a digest gives a *GarbledError.
func Parse(text string) (Digest, error) {
	e, err := parseAlone(text)
	return e.Digest, err
}

func parseAlone(text string) (Entry, error) {
	named, digits, err := splitName(strings.Trim(text, closing+"\r\n"))
	if err != nil {
		return Entry{}, err
	}
	if len(digits) > 1 && (digits[:2] == "0x" || digits[:2] == "0X") {
		digits = digits[2:]
	}
	digits = strings.Join(strings.FieldsFunc(digits, func(r rune) bool {
		return strings.ContainsRune(": -\t\n\r\u00a0", r)
	}), "")
	d, err := fromHex(digits)
	if err != nil {
		return Entry{}, garbled(digits, err)
	}
	if named != 0 && named.Size() != d.Algorithm.Size() {
		return Entry{}, fmt.Errorf("%d hex digits are the length of %s, but the text says %s", len(digits),
			d.Algorithm, named)
	}
	if named != 0 {
		d.Algorithm = named
	}
	return Entry{Digest: d, Line: 1, Guessed: named == 0 && len(d.Algorithm.Alike()) > 0}, nil
}

// GivenName is what messages call a text that was given for a digest.
const GivenName = "the digest given"

// ReadGiven reads a text that a person gives for a digest: a digest as Parse reads it, base64, or a block of lines from
// a page or a sums file, with names and labels. The error is a *GarbledError if the text is nearly a digest.
func ReadGiven(text string) (*Sums, error) {
	text = strings.TrimSpace(text)
	one := &Sums{Name: GivenName, Given: true, Text: []byte(text)}
	e, err := parseAlone(text)
	if err == nil {
		one.Entries = []Entry{e}
		return one, nil
	}
	if sum, wrong := base64.StdEncoding.DecodeString(pad(strings.Trim(text, closing))); wrong == nil &&
		byHexLength(2*len(sum)) != 0 {
		a := byHexLength(2 * len(sum))
		one.Entries = []Entry{{Digest: New(a, sum), Line: 1, Guessed: len(a.Alike()) > 0}}
		return one, nil
	}
	if errors.As(err, new(*GarbledError)) {
		return nil, err
	}
	s, unread := ReadSums(strings.NewReader(text), GivenName)
	if unread == nil {
		s.Given = true
		return s, nil
	}
	if word, nearly := nearlyIn(text); nearly {
		_, err = parseAlone(word)
	}
	return nil, err
}

// splitName takes a leading algorithm name off. Every such name has a letter that is
// no hex digit, so it can't be taken for digits.
func splitName(text string) (Algorithm, string, error) {
	end := strings.IndexAny(text, ":= \t\n")
	if end < 0 {
		end = len(text)
	}
	a := byName(text[:end])
	if a == 0 && (text == "" || strings.ContainsRune("0123456789abcdef", rune(text[0]|0x20))) {
		return 0, text, nil
	}
	if a == 0 {
		return 0, "", fmt.Errorf("%q is neither hex digits nor a known algorithm (%s)", text[:end], names())
	}
	return a, strings.TrimLeft(text[end:], ":= \t\r\n"), nil
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

// lengths are those of digests, each with the algorithm that is published most.
func lengths() string {
	var out []string
	for _, a := range Algorithms() {
		if byHexLength(a.Size()*2) == a {
			out = append(out, fmt.Sprintf("%s %d", a, a.Size()*2))
		}
	}
	return strings.Join(out, ", ")
}
