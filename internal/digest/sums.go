// Package digest knows the digests by which images are published: the algorithms, and the
// sums files in which they stand.
//
// A sums file is lines of text, in any mix of these notations:
//
//	HEX  name            the digest, a space, and a space (text) or star (binary) before the name
//	HEX *name
//	\HEX  na\\me\n       a leading backslash: in the name \\ is a backslash, \n and \r line ends
//	SHA256 (name) = HEX  tagged; the spaces may be missing, as in SHA256(name)= HEX; base64 may stand for HEX
//	HEX                  alone, in a file that is itself named after the image, or that was named by the user
//
// The algorithm follows from the number of digits; a tag must agree with it. Lines may end
// with CR LF or a zero byte, the text may be UTF-16 or start with a byte order mark, empty lines and lines that start
// with # or ; mean nothing. All of it may be wrapped in an OpenPGP clear-signed message (RFC 9580
// section 7), whose dash escapes are undone; the signature itself is not looked at here. Lines outside of
// the first such message are not used: anybody can have added them.
//
// Other lines are read by the one rule that scan.go tells: a digest belongs to the name on its line, or else to the
// nearest one in its record. So lists that programs and pages print for people are read too, with labels, in columns,
// sections or web pages. JSON, TOML and tables of values with titles are read by their keys.
//
// A line that is none of these is kept with the reason, and doesn't spoil the others, unless it names the file that is
// looked for and what stands there is nearly a digest. A name with two different digests by one algorithm is refused.
package digest

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

// maxSums bounds a sums file, in bytes; the largest published ones are far below 1 MB.
const maxSums = 16 << 20

// Sums is the contents of a sums file.
type Sums struct {
	Name    string // of the file, for messages
	Entries []Entry
	Skipped []Skipped
	Signed  bool   // wrapped in a clear-signed message
	Given   bool   // the user said that it is for the image, so that a digest without a name counts
	Text    []byte // all of it, as it was read

	byName *entriesByName // of Entries; nil: they are gone through
}

// Entry is one digest of a sums file.
type Entry struct {
	Digest
	Line    int    // counted from 1
	File    string // the name it is for, as written; empty for a digest that stands alone
	Guessed bool   // only the number of digits tells the algorithm, and others have as many

	near string // the text in which the name was found, and in which others may stand
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

	Absent bool // it can be read, and doesn't name the image
	Own    bool // it was made by this program: a receipt, or a result that somebody kept
}

func (e *SumsError) Error() string { return e.Name + " " + e.Why }

// ReadSums reads a sums file; name is for messages, and tells what a digest alone is for.
// The error is a *SumsError, or one of reading.
func ReadSums(r io.Reader, name string) (*Sums, error) {
	raw, err := io.ReadAll(io.LimitReader(r, maxSums+1))
	if err != nil {
		return nil, fmt.Errorf("read sums file %s: %w", name, err)
	}
	s := &Sums{Name: name, Text: raw}
	if len(raw) > maxSums {
		return nil, &SumsError{Name: name, Why: "is too large for a sums file"}
	}
	text := decode(raw)
	if !isText(text) {
		return nil, &SumsError{Name: name, Why: "is not text"}
	}
	if isOwn(text) {
		return nil, &SumsError{Name: name, Why: "holds what zipstamp computed, not what somebody published", Own: true}
	}
	switch {
	case bytes.Contains(text, []byte(beginSigned)):
		s.parse(rows(text))
	case s.readJSON(text), s.readTable(text):
	case isHTML(text):
		s.scan(htmlRows(text))
	case !s.readTOML(text):
		s.Entries = nil
		s.parse(rows(text))
	}
	if len(s.Entries) == 0 && isHTML(text) {
		return nil, &SumsError{Name: name, Why: "is a web page, and holds no digest" + s.skippedLines()}
	}
	if len(s.Entries) == 0 {
		return nil, &SumsError{Name: name, Why: "holds no digest" + s.skippedLines()}
	}
	s.byName = byNames(s.Entries)
	return s, nil
}

// IsSums tells whether the text is one that somebody made to tell digests: it names their files, or has nothing in it
// but digests. Other texts may have a digest in them by chance, such as the number of a request that failed.
func (s *Sums) IsSums() bool {
	if slices.ContainsFunc(s.Entries, func(e Entry) bool { return e.File != "" }) {
		return true
	}
	text := string(decode(s.Text))
	words := strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	return len(strings.Fields(text)) == 1 || !slices.ContainsFunc(words, func(word string) bool {
		word = strings.ToLower(word)
		isDigest := slices.ContainsFunc(s.Entries, func(e Entry) bool { return e.Hex() == word })
		return !isDigest && byName(word) == 0 && !slices.Contains(digestWords, word)
	})
}

// digestWords are words that stand beside a digest.
var digestWords = []string{"sha", "1", "224", "256", "384", "512", "checksum", "digest", "hash", "sum"}

// entriesByName finds entries, so that many images are looked up in a long file in no time.
type entriesByName struct {
	named  map[string][]int // by File, and by its base
	others []int            // that can be of any name
}

func byNames(entries []Entry) *entriesByName {
	b := &entriesByName{named: map[string][]int{}}
	for i, e := range entries {
		if e.File == "" || e.near != "" {
			b.others = append(b.others, i)
			continue
		}
		b.named[e.File] = append(b.named[e.File], i)
		if base := e.Base(); base != e.File {
			b.named[base] = append(b.named[base], i)
		}
	}
	return b
}

// mayBeOf are the entries that may be of a name, in their order.
func (s *Sums) mayBeOf(name string) []Entry {
	if s.byName == nil {
		return s.Entries
	}
	at := slices.Concat(s.byName.named[name], s.byName.others)
	slices.Sort(at)
	var out []Entry
	for _, i := range at {
		out = append(out, s.Entries[i])
	}
	return out
}

// ownMarks are what only receipts and results of this program have. Digests in them were computed, perhaps of a file
// that was compared with nothing.
var ownMarks = []*regexp.Regexp{
	regexp.MustCompile(`(?s)^\s*\{.{0,200}"schema"\s*:.{0,200}"version"\s*:\s*\d+.{0,400}"sentence"\s*:`),
	regexp.MustCompile(`"tool"\s*:\s*\{\s*"name"\s*:\s*"zipstamp"`),
	regexp.MustCompile(`SHA-256 of the record`),
	regexp.MustCompile(`\n\s+of the (file as downloaded|unpacked image)\s*\n`),
	regexp.MustCompile(`\n\s+as in [^\n]+, for the\s`),
	regexp.MustCompile(`\n  (checked|receipt) {2,}[^\n]+\n`),
}

// isOwn tells whether a text was made by this program.
func isOwn(text []byte) bool {
	return slices.ContainsFunc(ownMarks, func(mark *regexp.Regexp) bool { return mark.Match(text) })
}

// isText tells text from other data. Zero bytes are fine where they end entries.
func isText(text []byte) bool {
	if bytes.IndexByte(text, 0) >= 0 {
		for _, r := range rows(text) {
			if _, err := strictLine(r.text); err != nil {
				return false
			}
		}
	}
	return !bytes.ContainsFunc(text, func(r rune) bool {
		return r < ' ' && r != 0 && r != '\t' && r != '\n' && r != '\r' && r != '\f' && r != 0x1b
	})
}

const beginSigned = "-----BEGIN PGP SIGNED MESSAGE-----"

// parse goes through the lines; where in a clear-signed message it is decides what they mean.
func (s *Sums) parse(lines []row) {
	const (
		body = iota
		headers
		signature
		outside
	)
	where := body
	for _, r := range lines {
		if r.text == beginSigned {
			where = outside // until it begins
			break
		}
	}
	scan := s.scanner()
	for _, r := range lines {
		switch {
		case where == signature:
			if r.text == "-----END PGP SIGNATURE-----" {
				where = outside
			}
		case where == headers:
			if r.text == "" {
				where = body
			}
		case r.text == beginSigned && !s.Signed:
			s.Signed, where = true, headers
		case where == outside:
			if !isComment(r.text) {
				s.Skipped = append(s.Skipped, Skipped{
					Line: r.line, Why: "it is outside of what is signed", Outside: true, text: r.text,
				})
			}
		case r.text == "-----BEGIN PGP SIGNATURE-----":
			where = signature
		default:
			if s.Signed {
				r.text = strings.TrimPrefix(r.text, "- ")
			}
			s.line(scan, r)
		}
	}
	scan.end()
}

// scan reads rows that are no lines of a sums file.
func (s *Sums) scan(rows []row) {
	scan := s.scanner()
	for _, r := range rows {
		scan.row(r)
	}
	scan.end()
}

func (s *Sums) scanner() *scanner { return &scanner{sums: s, hint: named(path.Base(s.Name))} }

// isComment tells a line that means nothing.
func isComment(line string) bool {
	trimmed := strings.TrimSpace(line)
	return trimmed == "" || trimmed[0] == '#' || trimmed[0] == ';'
}

// line reads a line: as an entry of a sums file, if it is one, and otherwise as what people print.
func (s *Sums) line(scan *scanner, r row) {
	switch {
	case strings.TrimSpace(r.text) == "":
		scan.blank()
		return
	case isComment(r.text):
		if labels := algorithmsIn(r.text); len(labels) == 1 {
			scan.heading = labels[0]
		}
		return
	}
	e, err := strictLine(r.text)
	if err == nil && e.File != "" && !(scan.inSection && listing.MatchString(r.text)) {
		e.Line = r.line
		for _, a := range []Algorithm{scan.heading, scan.hint} {
			if e.Guessed && a != 0 && a.Size() == e.Algorithm.Size() {
				e.Algorithm, e.Guessed = a, false
			}
		}
		s.Entries = append(s.Entries, e)
		scan.digests, scan.name, scan.nameText = true, "", ""
		return
	}
	if err != nil && isTagged(r.text) && (nearly(r.text) || tagEnd.MatchString(r.text)) {
		s.Skipped = append(s.Skipped, Skipped{Line: r.line, Why: err.Error(), text: r.text, nearly: nearly(r.text)})
		return
	}
	entries, skipped := len(s.Entries), len(s.Skipped)
	if !scan.row(r) && len(s.Entries) == entries && len(s.Skipped) == skipped {
		s.Skipped = append(s.Skipped, Skipped{Line: r.line, Why: whyNot(err), text: r.text})
	}
}

// strictLine reads a line in one of the notations of sums files.
func strictLine(line string) (Entry, error) {
	if isTagged(line) {
		return parseTagged(line)
	}
	return parseLine(line)
}

// nearly tells whether a line in the tagged notation that can't be read has what is meant for a digest: the tag is that
// of an algorithm that is known here.
func nearly(line string) bool {
	tag, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), `\`), "(")
	return byName(strings.TrimSpace(tag)) != 0
}

// tagEnd is what stands between the name and the digest in the tagged notation.
var tagEnd = regexp.MustCompile(`\) *=`)

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
	digits = strings.TrimSpace(digits)
	if sum, err := base64.StdEncoding.DecodeString(digits); err == nil && len(sum) == a.Size() {
		return Entry{Digest: New(a, sum), File: unescape(rest[open+1:end], escaped)}, nil
	}
	d, err := fromHex(digits)
	if err != nil {
		return Entry{}, err
	}
	if d.Algorithm.Size() == a.Size() {
		d.Algorithm = a
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
	return Entry{Digest: d, File: unescape(name, escaped), Guessed: len(d.Algorithm.Alike()) > 0}, nil
}

func unescape(name string, escaped bool) string {
	if !escaped {
		return name
	}
	return strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\r`, "\r").Replace(name)
}

// Base is the name without folders, whichever way its slashes lean.
func (e Entry) Base() string { return baseOf(e.File) }

// isOf tells whether an entry is that of a file: it has its name, or the name stands in the text that names it.
func (e Entry) isOf(name string) bool {
	return e.File != "" && (e.File == name || e.Base() == name || e.near != "" && mentions(e.near, name))
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
		alone := s.Given || s.namedAfter(name)
		for _, e := range s.mayBeOf(name) {
			if e.isOf(name) || e.File == "" && alone {
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
		return nil, &SumsError{Name: s.Name, Why: s.notNamed(names[0]), Sums: s, Absent: true}
	}
	return dedupe(found), nil
}

// unreadable tells whether a line names the file, but its digest can't be read: another one must not stand in for it.
func (s *Sums) unreadable(name string) error {
	for _, k := range s.Skipped {
		if k.nearly && !k.Outside && mentions(k.text, name) {
			return &SumsError{
				Name: s.Name, Sums: s,
				Why: fmt.Sprintf("names %s in line %d, but the digest there can't be read: %s", name, k.Line, k.Why),
			}
		}
	}
	return nil
}

// aroundNames are characters that are no part of a name.
const aroundNames = " \t\n\r,;|:=\"'<>`[]"

// mentions tells whether a name stands in a line, with or without folders, and not as a part of another name.
func mentions(line, name string) bool {
	for at := 0; ; {
		i := strings.Index(line[at:], name)
		if i < 0 || name == "" {
			return false
		}
		start, end := at+i, at+i+len(name)
		before := start == 0 || strings.IndexByte(aroundNames+"*(/\\", line[start-1]) >= 0
		after := end == len(line) || strings.IndexByte(aroundNames+")?", line[end]) >= 0
		if before && after {
			return true
		}
		at = start + 1
	}
}

func (s *Sums) namedAfter(image string) bool {
	return isNamedAfter(again.ReplaceAllString(path.Base(s.Name), "$1"), image)
}

// conflict tells whether one name has different digests of one algorithm.
func (s *Sums) conflict(name string, entries []Entry) error {
	first := map[Algorithm]Entry{}
	for _, e := range entries {
		f, seen := first[e.Algorithm]
		if seen && f.Digest != e.Digest {
			return &SumsError{
				Name: s.Name, Sums: s,
				Why: fmt.Sprintf("gives two different %s digests for %s: lines %d and %d", e.Algorithm, name, f.Line,
					e.Line),
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
	for _, e := range s.Entries[:min(len(s.Entries), most)] {
		if e.File == "" {
			listed = append(listed, fmt.Sprintf("line %d: a digest without a name", e.Line))
		} else {
			listed = append(listed, fmt.Sprintf("line %d: %q", e.Line, e.File))
		}
	}
	if more := len(s.Entries) - most; more > 0 {
		listed = append(listed, fmt.Sprintf("and %d more", more))
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
