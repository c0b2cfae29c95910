package digest

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Digests in JSON, TOML and tables of values: a key, or the title of a column, names the algorithm, and another one the
// file.

// nameKeys are the keys and titles under which the name of a file stands, the best first.
var nameKeys = []string{
	"name", "file", "filename", "file_name", "path", "image", "url", "href", "download", "link", "asset", "artifact",
}

// sumKeys are those under which a digest stands whose algorithm is named elsewhere.
var sumKeys = []string{"hash", "checksum", "digest", "sum", "value", "hex", "integrity"}

// unpackedKeys are parts of keys under which the digest of what is in the file stands.
var unpackedKeys = []string{"extract", "unpack", "uncompress", "decompress", "raw", "inner", "content"}

// maxNodes bounds what is looked at of a document.
const maxNodes = 1 << 20

// structure reads the digests of a document.
type structure struct {
	sums  *Sums
	nodes int
}

// readJSON reads JSON; false if it is none, or has no digest.
func (s *Sums) readJSON(text []byte) bool {
	trimmed := bytes.TrimSpace(text)
	if len(trimmed) == 0 || trimmed[0] != '{' && trimmed[0] != '[' {
		return false
	}
	dec := json.NewDecoder(bytes.NewReader(trimmed))
	dec.UseNumber()
	t := structure{sums: s}
	for { // one document, or one a line
		var v any
		if err := dec.Decode(&v); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return false
		}
		t.walk(v, "", nil, 0)
	}
	return s.located(text)
}

// readTOML reads TOML; false if it is none, or has no digest.
func (s *Sums) readTOML(text []byte) bool {
	if !bytes.Contains(text, []byte("=")) {
		return false
	}
	var v map[string]any
	if err := toml.Unmarshal(text, &v); err != nil {
		return false
	}
	t := structure{sums: s}
	t.walk(v, "", nil, 0)
	return s.located(text)
}

// located finds the lines of digests that were read from a document, and tells whether there are any.
func (s *Sums) located(text []byte) bool {
	lines := map[string]int{} // of the first text in quotes that is so
	for i, line := range bytes.Split(text, []byte("\n")) {
		for part := range bytes.FieldsFuncSeq(line, func(r rune) bool { return r == '"' || r == '\'' }) {
			if _, known := lines[string(part)]; !known && len(part) >= MD5.Size() {
				lines[string(part)] = i + 1
			}
		}
	}
	for i := range s.Entries {
		e := &s.Entries[i]
		e.Line, e.near = max(lines[e.near], 1), ""
	}
	slices.SortStableFunc(s.Entries, func(a, b Entry) int { return a.Line - b.Line })
	return len(s.Entries) > 0
}

// walk goes through a value. key is that under which it stands, name the name around it, and hint the algorithm.
func (t *structure) walk(v any, key string, names []string, hint Algorithm) {
	if t.nodes++; t.nodes > maxNodes {
		return
	}
	switch v := v.(type) {
	case []any:
		for _, one := range v {
			t.walk(one, key, names, hint)
		}
	case map[string]any:
		if own := namesOf(v); len(own) > 0 {
			names = own
		}
		for _, k := range []string{"algorithm", "alg", "type", "hash_type", "algo"} {
			if text, ok := v[k].(string); ok && named(text) != 0 {
				hint = named(text)
			}
		}
		for _, k := range slices.Sorted(maps.Keys(v)) {
			of, under := names, hint
			if a := named(k); a != 0 {
				under = a
			} else if isFileName(baseOf(k)) {
				of = []string{k}
			}
			t.walk(v[k], k, of, under)
		}
	case string:
		t.text(v, key, names, hint)
	}
}

// namesOf are the names that an object gives itself.
func namesOf(v map[string]any) (names []string) {
	for _, want := range nameKeys {
		for k, value := range v {
			if text, ok := value.(string); ok && strings.EqualFold(strings.ReplaceAll(k, "-", "_"), want) &&
				text != "" {
				name, _, _ := strings.Cut(text, "?")
				if strings.Contains(name, "://") || isFileName(baseOf(name)) {
					names = append(names, name)
				}
			}
		}
	}
	return names
}

// text takes a text for a digest, if its key says so.
func (t *structure) text(value, key string, names []string, hint Algorithm) {
	low := strings.ToLower(key)
	isSum := slices.ContainsFunc(sumKeys, func(k string) bool { return strings.Contains(low, k) })
	if hint == 0 && !isSum && !isFileName(baseOf(key)) {
		return
	}
	d, guessed, ok := valueOf(value, hint)
	if !ok {
		return
	}
	file := ""
	if len(names) > 0 {
		file = names[0]
	}
	if slices.ContainsFunc(unpackedKeys, func(k string) bool { return strings.Contains(low, k) }) {
		file = strings.TrimSuffix(file, packedEnding(file))
	}
	t.sums.Entries = append(t.sums.Entries, Entry{Digest: d, File: file, near: value, Guessed: guessed})
}

// packedEnding is the last ending of a name, if another one is before it: .xz of os.img.xz.
func packedEnding(name string) string {
	base := baseOf(name)
	at := strings.LastIndexByte(base, '.')
	if at <= 0 || !isFileName(base[:at]) {
		return ""
	}
	return base[at:]
}

// valueOf reads a value that is a digest: digits, base64, or either with its algorithm before it.
func valueOf(text string, hint Algorithm) (d Digest, guessed, ok bool) {
	text = strings.Trim(text, closing)
	if before, after, cut := strings.Cut(text, ":"); cut && named(before) != 0 {
		text, hint = strings.TrimSpace(after), named(before)
	} else if before, after, cut := strings.Cut(text, "-"); cut && byName(before) != 0 {
		text, hint = after, byName(before)
	}
	if d, err := fromHex(strings.TrimPrefix(strings.ToLower(text), "0x")); err == nil {
		switch {
		case hint != 0 && hint.Size() == d.Algorithm.Size():
			d.Algorithm = hint
		case hint != 0:
			return Digest{}, false, false
		default:
			guessed = true
		}
		return d, guessed, true
	}
	if hint == 0 {
		return Digest{}, false, false
	}
	sum, err := base64.StdEncoding.DecodeString(pad(text))
	return New(hint, sum), false, err == nil && len(sum) == hint.Size()
}

// readTable reads a table of values whose first row has titles of which one names an algorithm; false if it is none.
func (s *Sums) readTable(text []byte) bool {
	first, _, _ := bytes.Cut(bytes.TrimLeft(text, "\r\n"), []byte("\n"))
	for _, comma := range []rune{',', ';', '\t'} {
		titles := strings.Split(strings.TrimRight(string(first), "\r"), string(comma))
		if len(titles) < 2 || !slices.ContainsFunc(titles, isSumTitle) {
			continue
		}
		r := csv.NewReader(bytes.NewReader(text))
		r.Comma, r.FieldsPerRecord, r.LazyQuotes = comma, -1, true
		if titles, err := r.Read(); err == nil && s.tableRows(r, titles) {
			return true
		}
		s.Entries = nil
	}
	return false
}

func isSumTitle(title string) bool {
	title = strings.ToLower(strings.Trim(title, closing))
	return !strings.ContainsAny(title, " (") && (named(title) != 0 || slices.Contains(sumKeys, title)) &&
		byHexLength(len(title)) == 0
}

func (s *Sums) tableRows(r *csv.Reader, titles []string) bool {
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return len(s.Entries) > 0
		}
		if err != nil {
			return false
		}
		line, _ := r.FieldPos(0)
		name, hint := "", Algorithm(0)
		for i, cell := range cells[:min(len(cells), len(titles))] {
			title := strings.ToLower(strings.Trim(titles[i], closing))
			switch {
			case slices.Contains(nameKeys, title) && name == "":
				name = cell
			case isFileName(baseOf(cell)) && name == "":
				name = cell
			case named(cell) != 0 && byHexLength(len(cell)) == 0:
				hint = named(cell)
			}
		}
		for i, cell := range cells[:min(len(cells), len(titles))] {
			if !isSumTitle(titles[i]) {
				continue
			}
			of := hint
			if a := named(strings.Trim(titles[i], closing)); a != 0 {
				of = a
			}
			if d, guessed, ok := valueOf(cell, of); ok {
				s.Entries = append(s.Entries, Entry{Digest: d, Line: line, File: name, Guessed: guessed})
			} else if word, near := nearlyIn(cell); near {
				_, err := fromHex(word)
				s.Skipped = append(s.Skipped, Skipped{Line: line, Why: whyNot(err), text: name, nearly: true})
			}
		}
	}
}
