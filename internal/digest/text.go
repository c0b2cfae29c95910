package digest

import (
	"bytes"
	"encoding/binary"
	"path"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// row is a line of a text, or what stands for one: an entry that is ended by a zero byte, a row of a table.
type row struct {
	line int // where it begins, from 1
	text string
}

// decode makes text of the bytes of a file: UTF-8, perhaps with a byte order mark, or UTF-16, as PowerShell writes it.
func decode(raw []byte) []byte {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(raw, []byte{0xFF, 0xFE}):
		order, raw = binary.LittleEndian, raw[2:]
	case bytes.HasPrefix(raw, []byte{0xFE, 0xFF}):
		order, raw = binary.BigEndian, raw[2:]
	case alternates(raw, 1):
		order = binary.LittleEndian
	case alternates(raw, 0):
		order = binary.BigEndian
	default:
		return bytes.TrimPrefix(raw, []byte("\xEF\xBB\xBF"))
	}
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = order.Uint16(raw[2*i:])
	}
	var out []byte
	for _, r := range utf16.Decode(units) {
		out = utf8.AppendRune(out, r)
	}
	return out
}

// alternates tells whether every second byte is zero, from the first one on, and no other: UTF-16 of plain letters.
func alternates(raw []byte, first int) bool {
	if len(raw) < 16 || len(raw)%2 != 0 {
		return false
	}
	for i, b := range raw {
		if (b == 0) != (i%2 == first) {
			return false
		}
	}
	return true
}

// rows are the lines of a text. Entries that end with zero bytes are rows too: names may have line ends then.
func rows(text []byte) (all []row) {
	if bytes.IndexByte(text, 0) >= 0 {
		line := 1
		for entry := range bytes.SplitSeq(bytes.TrimSuffix(text, []byte{0}), []byte{0}) {
			all = append(all, row{line, string(entry)})
			line += bytes.Count(entry, []byte("\n"))
		}
		return all
	}
	ends := "\n"
	if bytes.IndexByte(text, '\n') < 0 {
		ends = "\r"
	}
	line := 0
	for part := range strings.SplitSeq(string(text), ends) {
		line++
		all = append(all, row{line, strings.TrimRight(part, "\r")})
	}
	return all
}

// isHTML tells a web page from other text.
func isHTML(text []byte) bool {
	start := strings.ToLower(string(text[:min(len(text), 4096)]))
	for _, tag := range []string{"<!doctype html", "<html", "<body", "<table", "<pre", "<div", "<head"} {
		if strings.Contains(start, tag) {
			return true
		}
	}
	return false
}

// Elements of a web page that end a row, and those that end a record, too.
var (
	endsRow = map[atom.Atom]bool{
		atom.Tr: true, atom.P: true, atom.Li: true, atom.Div: true, atom.Br: true, atom.Dt: true, atom.Dd: true,
		atom.Pre: true, atom.Blockquote: true, atom.Caption: true,
	}
	endsRecord = map[atom.Atom]bool{
		atom.H1: true, atom.H2: true, atom.H3: true, atom.H4: true, atom.H5: true, atom.H6: true, atom.Hr: true,
		atom.Table: true, atom.Section: true, atom.Article: true,
	}
	notShown = map[atom.Atom]bool{atom.Script: true, atom.Style: true, atom.Template: true, atom.Noscript: true}
)

// htmlRows are the rows of a web page: those of its tables, its paragraphs, and the lines of what is set as it is. The
// name of the file that a link leads to is a part of the link's text.
func htmlRows(text []byte) (all []row) {
	z := html.NewTokenizer(bytes.NewReader(text))
	var now strings.Builder
	line, at, skip, pre := 1, 1, 0, 0
	end := func() {
		if fields := strings.TrimSpace(now.String()); fields != "" {
			all = append(all, row{at, fields})
		}
		now.Reset()
		at = line
	}
	for {
		kind := z.Next()
		if kind == html.ErrorToken { // mostly the end; what can't be read ends it too
			end()
			return all
		}
		raw := z.Raw()
		switch kind {
		case html.TextToken:
			shown := string(z.Text())
			if skip > 0 {
				break
			}
			shown = html.UnescapeString(shown)
			if pre == 0 {
				if now.Len() == 0 {
					lead := shown[:len(shown)-len(strings.TrimLeft(shown, " \t\r\n"))]
					at = line + strings.Count(lead, "\n")
				}
				now.WriteString(squeeze(shown))
				break
			}
			for i, part := range strings.Split(shown, "\n") {
				if i > 0 {
					end()
					at = line + i
				}
				now.WriteString(part)
			}
		case html.StartTagToken, html.SelfClosingTagToken, html.EndTagToken:
			name, more := z.TagName()
			tag := atom.Lookup(name)
			opens := 1
			if kind == html.EndTagToken {
				opens = -1
			}
			switch {
			case notShown[tag] && kind != html.SelfClosingTagToken:
				skip = max(skip+opens, 0)
			case endsRecord[tag]:
				end()
				all = append(all, row{line, ""})
			case endsRow[tag]:
				end()
			case tag == atom.Td || tag == atom.Th:
				now.WriteByte('\t')
			case tag == atom.A && opens > 0:
				now.WriteString(linked(z, more))
			}
			if tag == atom.Pre {
				pre = max(pre+opens, 0)
			}
		}
		line += bytes.Count(raw, []byte("\n"))
	}
}

// linked is the name of the file that a link leads to, if it looks like one.
func linked(z *html.Tokenizer, more bool) string {
	for more {
		var key, value []byte
		key, value, more = z.TagAttr()
		if string(key) == "href" {
			target, _, _ := strings.Cut(string(value), "?")
			target, _, _ = strings.Cut(target, "#")
			if base := path.Base(target); isFileName(base) {
				return " " + base + " "
			}
		}
	}
	return ""
}

// squeeze makes one blank of several.
func squeeze(text string) string {
	words := strings.Join(strings.Fields(text), " ")
	if words == "" {
		return " "
	}
	if strings.ContainsAny(text[:1], " \t\r\n") {
		words = " " + words
	}
	if strings.ContainsAny(text[len(text)-1:], " \t\r\n") {
		words += " "
	}
	return words
}
