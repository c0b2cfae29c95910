package fetch

import (
	"encoding/base64"
	"net/http"
	"strconv"
	"strings"
	"time"

	"zipstamp/internal/digest"
)

// Validators tell whether a file is the one that it was (RFC 9110, section 8.8).
type Validators struct {
	ETag    string `json:"etag,omitempty"`
	Changed string `json:"last_modified,omitempty"` // as the host wrote it
}

// validatorsOf reads those of an answer. A time without a tag counts only if it is a strong one: within a second, a
// file can change twice.
func validatorsOf(h http.Header) Validators {
	v := Validators{bounded(h.Get("ETag")), bounded(h.Get("Last-Modified"))}
	if v.ETag == "" && v.condition(h.Get("Date")) == "" {
		v.Changed = ""
	}
	return v
}

// bounded is a value that is short enough to be kept; empty for others.
func bounded(value string) string {
	if len(value) > 1<<10 {
		return ""
	}
	return value
}

// None tells that there are none.
func (v Validators) None() bool { return v == Validators{} }

// condition is what a range is asked for under: a strong validator; empty if there is none. date is when the answer was
// made that had them.
func (v Validators) condition(date string) string {
	if strings.HasPrefix(v.ETag, `"`) {
		return v.ETag
	}
	// section 8.8.2.2: it is strong if it is a minute older than the answer
	changed, err := http.ParseTime(v.Changed)
	made, wrong := http.ParseTime(date)
	if v.ETag == "" && err == nil && wrong == nil && made.Sub(changed) >= time.Minute {
		return v.Changed
	}
	return ""
}

// Header asks for a file only if it isn't the one that has them.
func (v Validators) Header() http.Header {
	h := http.Header{}
	if v.ETag != "" {
		h.Set("If-None-Match", v.ETag)
	} else if v.Changed != "" {
		h.Set("If-Modified-Since", v.Changed)
	}
	return h
}

// differ tells whether two are certainly of different files.
func (v Validators) differ(w Validators) bool {
	if v.ETag != "" && w.ETag != "" {
		return strings.TrimPrefix(v.ETag, "W/") != strings.TrimPrefix(w.ETag, "W/")
	}
	return v.Changed != "" && w.Changed != "" && v.Changed != w.Changed
}

// contentRange reads a Content-Range header (RFC 9110, section 14.4): the first byte, and the length of the whole file,
// -1 where it isn't told. start is -1 for a range that could not be given.
func contentRange(text string) (start, total int64, ok bool) {
	text, ok = strings.CutPrefix(text, "bytes ")
	if !ok {
		return 0, 0, false
	}
	within, whole, ok := strings.Cut(strings.TrimSpace(text), "/")
	if !ok {
		return 0, 0, false
	}
	total = -1
	if whole != "*" {
		if total, ok = number(whole); !ok {
			return 0, 0, false
		}
	}
	if within == "*" {
		return -1, total, total >= 0
	}
	first, last, ok := strings.Cut(within, "-")
	start, ok1 := number(first)
	end, ok2 := number(last)
	return start, total, ok && ok1 && ok2 && start <= end && (total < 0 || end < total)
}

func number(text string) (int64, bool) {
	n, err := strconv.ParseUint(text, 10, 63)
	return int64(n), err == nil && text[0] != '+'
}

// fieldDigests are those of a Repr-Digest header (RFC 9530, section 3): a dictionary of byte sequences (RFC 8941,
// sections 3.2 and 3.3.5); or of a Digest header (RFC 3230), which has no colons. Only algorithms that show forgery too
// are read.
func fieldDigests(fields []string) (all []digest.Digest) {
	for _, field := range fields {
		for _, item := range strings.Split(field, ",") {
			name, value, ok := strings.Cut(strings.TrimSpace(item), "=")
			if !ok {
				continue
			}
			value, _, _ = strings.Cut(value, ";") // parameters
			value = strings.TrimSpace(value)
			if inner, ok := strings.CutPrefix(value, ":"); ok {
				if value, ok = strings.CutSuffix(inner, ":"); !ok {
					continue
				}
			}
			a := map[string]digest.Algorithm{"sha-256": digest.SHA256, "sha-512": digest.SHA512}[strings.ToLower(
				strings.TrimSpace(name))]
			sum, err := base64.StdEncoding.DecodeString(value)
			if a != 0 && err == nil && len(sum) == a.Size() {
				all = append(all, digest.New(a, sum))
			}
		}
	}
	return all
}

// link is a link of a Link header (RFC 8288).
type link struct {
	to       string
	relation string
	kind     string
	priority int
}

// maxLinks bounds what is read of Link headers.
const maxLinks = 200

// linksOf reads Link headers.
func linksOf(fields []string) (all []link) {
	for _, field := range fields {
		for field != "" && len(all) < maxLinks {
			start := strings.IndexByte(field, '<')
			if start < 0 {
				break
			}
			end := strings.IndexByte(field[start:], '>')
			if end < 0 {
				break
			}
			one := link{to: field[start+1 : start+end], priority: worstPriority}
			var params string
			params, field = cutUnquoted(field[start+end+1:], ',')
			for params != "" {
				var param string
				param, params = cutUnquoted(params, ';')
				name, value, _ := strings.Cut(strings.TrimSpace(param), "=")
				value = strings.Trim(strings.TrimSpace(value), `"`)
				switch strings.ToLower(strings.TrimSpace(name)) {
				case "rel":
					one.relation = strings.ToLower(value)
				case "type":
					one.kind = strings.ToLower(value)
				case "pri":
					if n, err := strconv.Atoi(value); err == nil && n > 0 {
						one.priority = n
					}
				}
			}
			all = append(all, one)
		}
	}
	return all
}

// cutUnquoted cuts a text at the first separator that is not within quotes.
func cutUnquoted(text string, separator byte) (before, after string) {
	quoted := false
	for i := range len(text) {
		switch {
		case text[i] == '"':
			quoted = !quoted
		case text[i] == separator && !quoted:
			return text[:i], text[i+1:]
		}
	}
	return text, ""
}

// worstPriority is that of mirrors without one (RFC 6249, section 3.1; RFC 5854, section 4.2.16.1.2).
const worstPriority = 999999
