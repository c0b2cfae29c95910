// Package document has what all JSON documents of the program begin with, and writes them. docs/schemas has a schema of
// each; docs/formats.md says what they are.
//
// All have one version. Members may be added without a new one; members are never taken away or changed within one.
package document

import (
	"bytes"
	"encoding/json"
	"fmt"
	"unicode"
	"unicode/utf16"
)

// Version of all documents.
const Version = 2

// Schema is the name of a kind of document, and of the file in docs/schemas that describes it.
type Schema string

// The kinds.
const (
	Receipt       Schema = "receipt" // of one job with one card
	Jobs          Schema = "jobs"    // receipts of one job with several cards
	Check         Schema = "check"
	Fetch         Schema = "fetch"
	Systems       Schema = "systems" // that lists offer
	Lists         Schema = "lists"   // of systems, that are kept
	Shelf         Schema = "shelf"
	Made          Schema = "made" // a list of systems
	Peek          Schema = "peek"
	Cards         Schema = "cards"
	Receipts      Schema = "receipts" // a list
	Export        Schema = "export"
	Keys          Schema = "keys"
	Restore       Schema = "restore"
	Removed       Schema = "removed"  // files of gauge space
	Practice      Schema = "practice" // a practice card that was made
	Plan          Schema = "plan"     // of a dry run
	Settings      Schema = "settings"
	Progress      Schema = "progress" // a line of it
	Names         Schema = "names"    // that a person has given to cards
	VersionReport Schema = "version"  // of the program
	ErrorReport   Schema = "error"    // of a command that came to no result
)

// Head is the beginning of every document.
type Head struct {
	Schema   Schema `json:"schema"`
	Version  int    `json:"version"`
	Exit     int    `json:"exit"`     // status of the program
	Sentence string `json:"sentence"` // the answer
}

// New is the head of a document of this version.
func New(s Schema, exit int, sentence string) Head { return Head{s, Version, exit, sentence} }

// Encode writes a document as people can read it.
func Encode(doc any) ([]byte, error) {
	text, err := json.MarshalIndent(doc, "", "  ")
	return append(plain(text), '\n'), err
}

// plain escapes what a JSON text may have as it is, and a terminal would obey: the control characters from U+007F to
// U+009F, and those that turn the order of what is seen or aren't seen at all (Unicode categories Cf, Zl, Zp).
func plain(text []byte) []byte {
	obeyed := func(r rune) bool { return r >= 0x7f && r < 0xa0 || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp) }
	if bytes.IndexFunc(text, obeyed) < 0 {
		return text
	}
	var out bytes.Buffer
	for _, r := range string(text) {
		if !obeyed(r) {
			out.WriteRune(r)
			continue
		}
		for _, unit := range utf16.AppendRune(nil, r) {
			fmt.Fprintf(&out, `\u%04x`, unit)
		}
	}
	return out.Bytes()
}
