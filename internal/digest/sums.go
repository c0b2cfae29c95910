// Package digest knows the digests by which images are published: the algorithms, and the
// sums files in which they stand.
//
// A sums file is lines of text, in any mix of these notations:
//
//	HEX  name            the digest, a space, and a space (text) or star (binary) before the name
//	HEX *name
//	\HEX  na\\me\n       a leading backslash: in the name \\ is a backslash, \n and \r line ends
//	SHA256 (name) = HEX  tagged; the spaces may be missing, as in SHA256(name)= HEX
//	HEX                  alone, in a file that is itself named after the image
//
// The algorithm follows from the number of digits; a tag must agree with it. Lines may end
// with CR LF, the file may start with a UTF-8 byte order mark, empty lines and lines that start with
// # or ; mean nothing. All of it may be wrapped in an OpenPGP clear-signed message (RFC 9580
// section 7), whose dash escapes are undone; the signature itself is not looked at here. Lines outside of
// the first such message are not used: anybody can have added them.
// A line that is none of these is kept with the reason, and doesn't spoil the others, unless it names the file that is
// looked for and what stands there is nearly a digest.
package digest

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"path"
	"strings"
)

// maxSums bounds a sums file, in bytes; the largest published ones are far below 1 MB.
const maxSums = 16 << 20

// Sums is the contents of a sums file.
type Sums struct {
	Name    string // of the file, for messages
	Entries []Entry
	Skipped []Skipped
	Signed  bool   // wrapped in a clear-signed message
	Text    []byte // all of it, as it was read
}

// Entry is one digest of a sums file.
type Entry struct {
	Digest
	Line int    // counted from 1
	File string // the name it is for, as written; empty for a digest that stands alone
}

// Skipped is a line that isn't used.
type Skipped struct {
	Line    int
	Why     string
	Outside bool // of what is signed; otherwise it isn't understood

	text   string
	nearly bool // it has what is nearly a digest
}

// Outside lists the lines that stand outside of what is signed.
func (s *Sums) Outside() (lines []int) {
	for _, k := range s.Skipped {
		if k.Outside {
			lines = append(lines, k.Line)
		}
	}
	return lines
}

// SumsError says what is wrong with a sums file as a whole.
type SumsError struct {
	Name string // of the sums file
	Why  string // with the line numbers
	Sums *Sums  // what it holds; nil where it can't be read
}

func (e *SumsError) Error() string { return e.Name + " " + e.Why }

// ReadSums reads a sums file; name is for messages, and tells what a digest alone is for.
// The error is a *SumsError, or one of reading.
func ReadSums(r io.Reader, name string) (*Sums, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxSums+1))
	if err != nil {
		return nil, fmt.Errorf("read sums file %s: %w", name, err)
	}
	s := &Sums{Name: name, Text: text}
	switch {
	case len(text) > maxSums:
		return nil, &SumsError{name, "is too large for a sums file", nil}
	case bytes.HasPrefix(text, []byte{0xFF, 0xFE}), bytes.HasPrefix(text, []byte{0xFE, 0xFF}):
		return nil, &SumsError{name, "is UTF-16 text; save it as UTF-8 or plain text", nil}
	case bytes.IndexByte(text, 0) >= 0:
		return nil, &SumsError{name, "is not text", nil}
	}
	text = bytes.TrimPrefix(text, []byte("\xEF\xBB\xBF"))
	s.parse(text)
	if len(s.Entries) == 0 {
		return nil, &SumsError{name, "holds no digest" + s.skippedLines(), nil}
	}
	return s, nil
}

// parse goes through the lines; where in a clear-signed message it is decides what they mean.
func (s *Sums) parse(text []byte) {
	const (
		body = iota
		headers
		signature
		outside
	)
	const begin = "-----BEGIN PGP SIGNED MESSAGE-----"
	where := body
	for line := range bytes.Lines(text) {
		if string(bytes.TrimRight(line, "\r\n")) == begin {
			where = outside // until it begins
			break
		}
	}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, maxSums+1)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimRight(lines.Text(), "\r")
		switch {
		case where == signature:
			if line == "-----END PGP SIGNATURE-----" {
				where = outside
			}
		case where == headers:
			if line == "" {
				where = body
			}
		case line == begin && !s.Signed:
			s.Signed, where = true, headers
		case where == outside:
			if !isComment(line) {
				s.Skipped = append(s.Skipped, Skipped{
					Line: n, Why: "it is outside of what is signed", Outside: true, text: line,
				})
			}
		case line == "-----BEGIN PGP SIGNATURE-----":
			where = signature
		default:
			if s.Signed {
				line = strings.TrimPrefix(line, "- ")
			}
			s.line(n, line)
		}
	}
}

// isComment tells a line that means nothing.
func isComment(line string) bool {
	trimmed := strings.TrimSpace(line)
	return trimmed == "" || trimmed[0] == '#' || trimmed[0] == ';'
}

func (s *Sums) line(n int, line string) {
	if isComment(line) {
		return
	}
	parse := parseLine
	if isTagged(line) {
		parse = parseTagged
	}
	e, err := parse(line)
	if err != nil {
		s.Skipped = append(s.Skipped, Skipped{Line: n, Why: err.Error(), text: line, nearly: nearly(line)})
		return
	}
	e.Line = n
	s.Entries = append(s.Entries, e)
}

// nearly tells whether a line that can't be read has what is meant for a digest: the tag of an algorithm that is known
// here, or a word of hex digits, most of them right. Others may be digests by algorithms that aren't known, or plain
// words.
func nearly(line string) bool {
	if isTagged(line) {
		tag, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), `\`), "(")
		return byName(strings.TrimSpace(tag)) != 0
	}
	word, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimLeft(line, " \t"), `\`), " ")
	digits := 0
	for _, r := range word {
		if strings.ContainsRune(hexDigits, r) {
			digits++
		}
	}
	return digits >= 24 && digits*10 >= len(word)*9
}

// isTagged tells the tagged notation from the others: hex digits are never followed by a
// parenthesis.
func isTagged(line string) bool {
	open := strings.IndexByte(line, '(')
	if open <= 0 {
		return false
	}
	tag := strings.TrimPrefix(strings.TrimSpace(line[:open]), `\`)
	return tag != "" && !strings.ContainsAny(tag, " \t*") && byHexLength(len(tag)) == 0
}

// parseTagged reads SHA256 (name) = HEX.
func parseTagged(line string) (Entry, error) {
	rest, escaped := strings.CutPrefix(line, `\`)
	open := strings.IndexByte(rest, '(')
	end := strings.LastIndexByte(rest, ')')
	if end < open {
		return Entry{}, fmt.Errorf("no closing parenthesis after the name")
	}
	tag := strings.TrimSpace(rest[:open])
	digits, found := strings.CutPrefix(strings.TrimSpace(rest[end+1:]), "=")
	if !found {
		return Entry{}, fmt.Errorf("no = after the name")
	}
	a := byName(tag)
	if a == 0 {
		return Entry{}, fmt.Errorf("%s is not a known algorithm", tag)
	}
	d, err := fromHex(strings.TrimSpace(digits))
	if err != nil {
		return Entry{}, err
	}
	if d.Algorithm != a {
		return Entry{}, fmt.Errorf("tagged %s, but its %d digits are the length of %s", a, 2*d.Algorithm.Size(),
			d.Algorithm)
	}
	return Entry{Digest: d, File: unescape(rest[open+1:end], escaped)}, nil
}

// parseLine reads HEX  name, HEX *name and HEX alone.
func parseLine(line string) (Entry, error) {
	line = strings.TrimLeft(line, " \t")
	line, escaped := strings.CutPrefix(line, `\`)
	digits, name := line, ""
	if i := strings.IndexAny(line, " \t"); i >= 0 {
		digits, name = line[:i], line[i+1:]
	}
	d, err := fromHex(digits)
	if err != nil {
		return Entry{}, err
	}
	if name != "" && (name[0] == ' ' || name[0] == '*' || name[0] == '\t') {
		name = name[1:]
	}
	if strings.TrimSpace(name) == "" {
		name = ""
	}
	return Entry{Digest: d, File: unescape(name, escaped)}, nil
}

func unescape(name string, escaped bool) string {
	if !escaped {
		return name
	}
	return strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\r`, "\r").Replace(name)
}

// Base is the name without folders, whichever way its slashes lean.
func (e Entry) Base() string {
	return path.Base(strings.ReplaceAll(e.File, `\`, "/"))
}

// Lookup returns the entries for the first of names that the file lists, and for the others too
// where it lists them: a packed image and the image in it may both stand there. A digest that
// stands alone counts if the sums file is named after one of them.
//
// The error is a *SumsError where no name is listed, or one is listed with different digests.
func (s *Sums) Lookup(names ...string) ([]Entry, error) {
	var found []Entry
	for _, name := range names {
		var ofName []Entry
		for _, e := range s.Entries {
			if e.File != "" && (e.File == name || e.Base() == name) || e.File == "" && s.namedAfter(name) {
				ofName = append(ofName, e)
			}
		}
		if err := s.unreadable(name); err != nil {
			return nil, err
		}
		if err := s.conflict(name, ofName); err != nil {
			return nil, err
		}
		found = append(found, ofName...)
	}
	if len(found) == 0 {
		return nil, &SumsError{s.Name, s.notNamed(names[0]), s}
	}
	return dedupe(found), nil
}

// unreadable tells whether a line names the file, but its digest can't be read: another one must not stand in for it.
func (s *Sums) unreadable(name string) error {
	for _, k := range s.Skipped {
		if k.nearly && !k.Outside && mentions(k.text, name) {
			return &SumsError{
				s.Name, fmt.Sprintf("names %s in line %d, but the digest there can't be read: %s", name, k.Line, k.Why),
				s,
			}
		}
	}
	return nil
}

// mentions tells whether a name stands in a line, with or without folders, and not as a part of another name.
func mentions(line, name string) bool {
	for at := 0; ; {
		i := strings.Index(line[at:], name)
		if i < 0 || name == "" {
			return false
		}
		start, end := at+i, at+i+len(name)
		before := start == 0 || strings.ContainsRune(" \t*(/\\", rune(line[start-1]))
		after := end == len(line) || strings.ContainsRune(" \t)", rune(line[end]))
		if before && after {
			return true
		}
		at = start + 1
	}
}

func (s *Sums) namedAfter(image string) bool {
	rest, found := strings.CutPrefix(path.Base(s.Name), image+".")
	return found && isSumsEnding(rest)
}

// conflict tells whether one name has different digests of one algorithm.
func (s *Sums) conflict(name string, entries []Entry) error {
	first := map[Algorithm]Entry{}
	for _, e := range entries {
		f, seen := first[e.Algorithm]
		if seen && f.Digest != e.Digest {
			return &SumsError{
				s.Name,
				fmt.Sprintf("gives two different %s digests for %s: lines %d and %d",
					e.Algorithm, name, f.Line, e.Line), s,
			}
		}
		if !seen {
			first[e.Algorithm] = e
		}
	}
	return nil
}

// dedupe leaves one entry where the same digest stands more than once.
func dedupe(entries []Entry) []Entry {
	var out []Entry
	seen := map[Digest]bool{}
	for _, e := range entries {
		if !seen[e.Digest] {
			seen[e.Digest] = true
			out = append(out, e)
		}
	}
	return out
}

// notNamed says which names stand in the file in place of the one looked for.
func (s *Sums) notNamed(name string) string {
	const most = 6
	var listed []string
	for _, e := range s.Entries {
		if e.File == "" {
			listed = append(listed, fmt.Sprintf("line %d: a digest without a name", e.Line))
		} else {
			listed = append(listed, fmt.Sprintf("line %d: %q", e.Line, e.File))
		}
	}
	if len(listed) > most {
		listed = append(listed[:most], fmt.Sprintf("and %d more", len(listed)-most))
	}
	return fmt.Sprintf("does not name %s (%s)%s", name, strings.Join(listed, ", "), s.skippedLines())
}

// skippedLines lists the first lines that weren't understood, to go at the end of a message.
func (s *Sums) skippedLines() string {
	var out strings.Builder
	for i, k := range s.Skipped {
		if i == 3 {
			fmt.Fprintf(&out, "; and %d more lines are not used", len(s.Skipped)-i)
			break
		}
		if k.Outside {
			fmt.Fprintf(&out, "; line %d is not used: %s", k.Line, k.Why)
			continue
		}
		fmt.Fprintf(&out, "; line %d is not understood: %s", k.Line, k.Why)
	}
	return out.String()
}

// NameOf returns the entry with digest d, if the file has one: the name under which a file with
// this digest was published.
func (s *Sums) NameOf(d Digest) (Entry, bool) {
	for _, e := range s.Entries {
		if e.Digest == d {
			return e, true
		}
	}
	return Entry{}, false
}
