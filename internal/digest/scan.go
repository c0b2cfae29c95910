package digest

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

// What programs and pages print for people is read by one rule: a digest belongs to the name on its line, or else to
// the nearest name above it in its record, or else to the only name in its record, which is below it. A record ends at
// an empty line behind a digest. The algorithm is the one that is named on the line, or else in the nearest line above
// that names one and has as many digits, or else the one of the file's own name, or else the one that is published most
// of those with as many digits.

// scanner reads rows by that rule.
type scanner struct {
	sums *Sums
	hint Algorithm // by the name of the file

	name      string // the nearest above
	nameText  string // the row in which it stands
	heading   Algorithm
	foreign   bool  // the heading is an algorithm that is not known here
	inSection bool  // of an archive's index: HEX SIZE NAME
	waiting   []int // entries of this record for which no name has been found
	below     []string
	belowText []string
	digests   bool // of this record
	groups    string
	groupsAt  int
}

var (
	hexRun = regexp.MustCompile(`(?i)(?:0x)?[0-9a-f]{32,128}`)
	pairs  = regexp.MustCompile(`(?i)^[0-9a-f]{2}(?:[ :-][0-9a-f]{2}){15,63}$`)
	groups = regexp.MustCompile(
		`(?i)^(?:[0-9a-f]{4}(?: +[0-9a-f]{4})+|[0-9a-f]{8}(?: +[0-9a-f]{8})+|[0-9a-f]{16}(?: +[0-9a-f]{16})+)$`,
	)
	spaced    = regexp.MustCompile(`(?i)\b(SHA[23]?|BLAKE2b) +(\d{1,3})\b`)
	inBase64  = regexp.MustCompile(`(?i)\b(md5|sha1|sha224|sha256|sha384|sha512)-([A-Za-z0-9+/]{22,}={0,2})`)
	base64Run = regexp.MustCompile(`[A-Za-z0-9+/]{22,86}={0,2}`)
	wordRun   = regexp.MustCompile(`[A-Za-z0-9][A-Za-z0-9_/-]*`)
	drive     = regexp.MustCompile(`^(?:[A-Za-z]:[\\/]|\\\\|/|\./|\.\\)`)
	listing   = regexp.MustCompile(`^\s+[0-9A-Fa-f]+\s+\d+\s+(.*)$`)
	fileToken = regexp.MustCompile(`[^\s"'“”‘’«»<>|,;()\[\]{}=*` + "`" + `]+`)
	keyed     = regexp.MustCompile(`(?i)^\s*[-*]?\s*"?(file|filename|file name|name|path|image|url)"?\s*[:=]\s*(.*)$`)
	ruler     = regexp.MustCompile(`^[\s|+:=-]*-[\s|+:=-]*$`)
)

// closing are the characters around words that belong to neither name nor digest.
const closing = " \t:=,;|\"'“”‘’„«»()[]{}<>*`#"

// found is a digest in a row.
type found struct {
	Digest
	guessed bool
	at, end int
}

// row reads one row, and tells whether it meant something.
func (s *scanner) row(r row) bool {
	text := spaced.ReplaceAllString(r.text, "$1-$2")
	if strings.TrimSpace(text) == "" {
		s.blank()
		return true
	}
	if ruler.MatchString(text) {
		return true
	}
	all, rest := s.digestsIn(text)
	labels := algorithmsIn(rest)
	if len(all) == 0 {
		if d, ok := s.grouped(r, text, rest, labels); ok {
			all = append(all, d)
		}
	}
	if len(all) == 0 {
		return s.noDigest(r, text, rest, labels)
	}
	if len(labels) == 0 && isForeign(rest) || len(labels) == 0 && s.heading == 0 && s.foreign {
		return true // by an algorithm that is not known here
	}
	name, near := nameIn(rest, text, true)
	section := s.inSection && listing.MatchString(text)
	if section { // HEX SIZE NAME, or HEX SIZE SECTION PRIORITY NAME
		fields := strings.Fields(text)
		name, near = fields[len(fields)-1], ""
	}
	for _, d := range all {
		if len(labels) == 0 && s.heading == 0 && !s.plausible(d, rest) {
			continue
		}
		d := s.algorithm(d, labels)
		if d.Algorithm == 0 {
			s.disagrees(r, labels[0], d)
			continue
		}
		e := Entry{Digest: d.Digest, Line: r.line, File: name, near: near, Guessed: d.guessed}
		if name == "" {
			e.File, e.near = s.name, s.nameText
		}
		s.add(e)
	}
	if name != "" && !section {
		s.name, s.nameText = name, near
	}
	return true
}

// add keeps an entry. One without a name waits for the only name of its record.
func (s *scanner) add(e Entry) {
	s.digests = true
	if e.File == "" {
		s.waiting = append(s.waiting, len(s.sums.Entries))
	}
	s.sums.Entries = append(s.sums.Entries, e)
}

// blank ends a record, if it has a digest: a heading may be kept apart from what it is of.
func (s *scanner) blank() {
	if !s.digests {
		return
	}
	s.end()
	s.name, s.nameText, s.heading, s.inSection, s.foreign = "", "", 0, false, false
}

// end gives those that wait the only name of the record.
func (s *scanner) end() {
	if len(s.below) == 1 {
		for _, i := range s.waiting {
			s.sums.Entries[i].File, s.sums.Entries[i].near = s.below[0], s.belowText[0]
		}
	}
	s.waiting, s.below, s.belowText, s.digests, s.groups = nil, nil, nil, false, ""
}

// noDigest reads a row that has none: it may name a file or an algorithm, or have what is nearly a digest.
func (s *scanner) noDigest(r row, text, rest string, labels []Algorithm) bool {
	name, near := nameIn(rest, text, false)
	if word, ok := nearlyIn(text); ok {
		about := text
		if name == "" {
			about = s.nameText + "\n" + text
		}
		_, err := fromHex(word)
		s.sums.Skipped = append(s.sums.Skipped, Skipped{
			Line: r.line, Why: whyNot(err), text: about, nearly: true,
		})
		s.digests = true
		return true
	}
	if len(labels) > 0 {
		s.heading, s.foreign = labels[len(labels)-1], false
		s.inSection = strings.HasSuffix(strings.TrimSpace(text), ":")
	}
	if len(labels) == 0 && isForeign(rest) {
		s.heading, s.foreign = 0, true
	}
	if name == "" {
		return len(labels) > 0 || s.foreign
	}
	if len(s.waiting) > 0 {
		s.below, s.belowText = append(s.below, name), append(s.belowText, near)
	}
	s.name, s.nameText = name, near
	return true
}

func whyNot(err error) string {
	if err == nil {
		return "it is not a digest"
	}
	return err.Error()
}

// disagrees keeps the reason why a digest of another length than its label says is not used.
func (s *scanner) disagrees(r row, label Algorithm, d found) {
	s.sums.Skipped = append(s.sums.Skipped, Skipped{
		Line: r.line, text: s.nameText + "\n" + r.text, nearly: true,
		Why: fmt.Sprintf("tagged %s, but its digits are %d", label, d.end),
	})
}

// algorithm finds out by which algorithm a digest is; none if the line says one that has another length.
func (s *scanner) algorithm(d found, labels []Algorithm) found {
	digits := 2 * len(d.sum)
	if len(labels) > 0 {
		if i := slices.IndexFunc(labels, func(a Algorithm) bool { return 2*a.Size() == digits }); i >= 0 {
			d.Algorithm, d.guessed = labels[i], false
		} else {
			d.Algorithm, d.end = 0, digits
		}
		return d
	}
	for _, a := range []Algorithm{s.heading, s.hint} {
		if a != 0 && 2*a.Size() == digits {
			d.Algorithm, d.guessed = a, false
			return d
		}
	}
	return d
}

// plausible tells whether digits that nothing says to be a digest are one all the same: those of SHA-256 and longer
// ones are hardly anything else, shorter ones may be numbers of all kinds, unless only a name stands beside them.
func (s *scanner) plausible(d found, rest string) bool {
	if len(d.sum) >= SHA256.Size() || s.hint != 0 {
		return true
	}
	words := strings.FieldsFunc(rest, func(r rune) bool { return strings.ContainsRune(closing, r) })
	return len(words) <= 2
}

// digestsIn finds the digests in a row, and gives the row without them.
func (s *scanner) digestsIn(text string) (all []found, rest string) {
	left := []byte(text)
	cut := func(at, end int) {
		for i := at; i < end; i++ {
			left[i] = ' '
		}
	}
	for _, m := range inBase64.FindAllStringSubmatchIndex(text, -1) {
		a := byName(text[m[2]:m[3]])
		if sum, err := base64.StdEncoding.DecodeString(pad(text[m[4]:m[5]])); err == nil && len(sum) == a.Size() {
			all = append(all, found{Digest: New(a, sum), at: m[0], end: m[1]})
			cut(m[0], m[1])
		}
	}
	rest = string(left)
	for _, m := range hexRun.FindAllStringIndex(rest, -1) {
		if !apart(rest, m[0], m[1]) {
			continue
		}
		digits := rest[m[0]:m[1]]
		if len(digits) > 2 && (digits[1] == 'x' || digits[1] == 'X') {
			digits = digits[2:]
		}
		d, err := fromHex(digits)
		if err != nil {
			continue
		}
		all = append(all, found{Digest: d, guessed: true, at: m[0], end: m[1]})
		cut(m[0], m[1])
	}
	if len(all) > 0 {
		return all, string(left)
	}
	labels := algorithmsIn(text)
	for _, m := range base64Run.FindAllStringIndex(text, -1) {
		if len(labels) != 1 || !apart(text, m[0], m[1]) {
			continue
		}
		sum, err := base64.StdEncoding.DecodeString(pad(text[m[0]:m[1]]))
		if err == nil && len(sum) == labels[0].Size() {
			all = append(all, found{Digest: New(labels[0], sum), at: m[0], end: m[1]})
			cut(m[0], m[1])
		}
	}
	return all, string(left)
}

// pad completes base64 whose end was left out.
func pad(text string) string {
	text = strings.TrimRight(text, "=")
	return text + strings.Repeat("=", (4-len(text)%4)%4)
}

// apart tells whether a stretch of a text is a word of its own.
func apart(text string, at, end int) bool {
	joins := func(b byte) bool {
		return b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b == '_' || b == '+' || b >= 0x80
	}
	before := at == 0 || !joins(text[at-1]) && text[at-1] != '.' && text[at-1] != '/' && text[at-1] != '-'
	after := end == len(text) || !joins(text[end]) && text[end] != '/' && text[end] != '-' &&
		(text[end] != '.' || end+1 == len(text) || text[end+1] == ' ')
	return before && after
}

// grouped reads a digest whose digits stand in groups or pairs, perhaps over several rows.
func (s *scanner) grouped(r row, text, rest string, labels []Algorithm) (found, bool) {
	body := strings.TrimSpace(text)
	for len(labels) > 0 && body != "" && !pairs.MatchString(body) && !groups.MatchString(body) {
		first, tail, more := strings.Cut(body, " ")
		if !more || len(algorithmsIn(first)) == 0 && strings.Trim(first, closing) != "" {
			break
		}
		body = strings.TrimSpace(tail)
	}
	single := len(body) > 0 && len(body)%8 == 0 && len(body) <= 16 && strings.Trim(body, hexDigits) == "" &&
		s.groups != ""
	if !pairs.MatchString(body) && !groups.MatchString(body) && !single {
		s.groups = ""
		return found{}, false
	}
	digits := strings.NewReplacer(" ", "", ":", "", "-", "").Replace(body)
	start := r.line
	if s.groups != "" {
		digits, start = s.groups+digits, s.groupsAt
	}
	d, err := fromHex(digits)
	half := len(labels) > 0 && !slices.ContainsFunc(labels, func(a Algorithm) bool { return 2*a.Size() == len(digits) })
	if err == nil && !half {
		s.groups = ""
		return found{Digest: d, guessed: true}, true
	}
	s.groups, s.groupsAt = "", start
	if len(digits) < 128 {
		s.groups = digits
	}
	return found{}, false
}

// isForeign tells whether a row names an algorithm that is not known here, or another kind of number.
func isForeign(text string) bool {
	return slices.ContainsFunc(wordRun.FindAllString(text, -1), func(word string) bool {
		return foreign[bareName(word)]
	})
}

// algorithmsIn lists the algorithms that a row names.
func algorithmsIn(text string) (all []Algorithm) {
	for _, m := range wordRun.FindAllStringIndex(text, -1) {
		if m[1] < len(text) && text[m[1]] == '.' && m[1]+1 < len(text) && unicode.IsLetter(rune(text[m[1]+1])) ||
			m[0] > 0 && (text[m[0]-1] == '.' || text[m[0]-1] == '\\') {
			continue // a part of a file's name
		}
		if a := named(text[m[0]:m[1]]); a != 0 && !slices.Contains(all, a) {
			all = append(all, a)
		}
	}
	return all
}

// nameIn finds the name of a file in what a row has beside its digests, and gives the text in which others may be
// found, too: a name may have blanks. besides says that the row has a digest.
func nameIn(rest, text string, besides bool) (name, near string) {
	if m := keyed.FindStringSubmatch(rest); m != nil {
		if value := strings.Trim(m[2], closing); value != "" {
			return value, text
		}
	}
	trimmed := strings.Trim(withoutLabels(rest), closing)
	if drive.MatchString(trimmed) {
		if strings.HasSuffix(trimmed, "...") || strings.HasSuffix(trimmed, "…") {
			return "", "" // a table that was too narrow for it
		}
		return trimmed, text
	}
	for _, word := range fileToken.FindAllString(rest, -1) {
		if word = strings.Trim(word, ":"); isFileName(baseOf(word)) {
			return word, text
		}
	}
	if besides && trimmed != "" && !strings.ContainsAny(trimmed, " \t") && !common[strings.ToLower(trimmed)] &&
		strings.Trim(trimmed, "0123456789") != "" {
		return trimmed, text
	}
	return "", ""
}

// withoutLabels is a row without the names of algorithms at its start.
func withoutLabels(text string) string {
	for {
		text = strings.TrimLeft(text, closing+"-")
		first := strings.IndexAny(text, " \t:=")
		if first <= 0 || named(text[:first]) == 0 && !common[strings.ToLower(text[:first])] {
			return text
		}
		text = text[first:]
	}
}

// common are words that stand beside digests and name no file.
var common = map[string]bool{
	"hash": true, "checksum": true, "checksums": true, "digest": true, "sum": true, "algorithm": true, "size": true,
	"of": true, "file": true, "value": true, "ok": true, "sha": true, "the": true, "is": true, "for": true,
}

// Endings of files that come with an image and are none.
var besideImages = []string{
	".asc", ".sig", ".sign", ".minisig", ".gpg", ".torrent", ".html", ".htm", ".txt", ".metalink", ".zsync",
	".manifest", ".json", ".com", ".org", ".net", ".io", ".example", ".exe", ".pem",
}

// isFileName tells a file's name from other words: it has an ending with a letter in it.
func isFileName(word string) bool {
	ending := path.Ext(word)
	if len(ending) < 2 || len(ending) > 11 || len(ending) == len(word) {
		return false
	}
	if isSumsEnding(ending[1:]) || slices.Contains(besideImages, strings.ToLower(ending)) {
		return false
	}
	letters := 0
	for _, r := range ending[1:] {
		switch {
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z':
			letters++
		case r < '0' || r > '9':
			return false
		}
	}
	return letters > 0
}

func baseOf(name string) string { return path.Base(strings.ReplaceAll(name, `\`, "/")) }

// nearlyIn finds a word in a row that is meant for a digest: hex digits, most of them right, and neither too few nor
// too many for a slip.
func nearlyIn(text string) (string, bool) {
	for _, word := range strings.FieldsFunc(text, func(r rune) bool {
		return unicode.IsSpace(r) || strings.ContainsRune(closing, r)
	}) {
		digits := 0
		for _, r := range word {
			if strings.ContainsRune(hexDigits, r) {
				digits++
			}
		}
		if _, err := hex.DecodeString(word); err == nil && byHexLength(len(word)) != 0 {
			continue
		}
		if digits >= 24 && digits*10 >= len(word)*9 && !isFileName(word) {
			return word, true
		}
	}
	return "", false
}
