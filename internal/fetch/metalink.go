package fetch

import (
	"bytes"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"zipstamp/internal/digest"
)

// MetalinkEnding is that of files of the kind (RFC 5854, section 6).
const MetalinkEnding = ".meta4"

// metalinkType is their media type.
const metalinkType = "application/metalink4+xml"

// Metalink is what a Metalink document (RFC 5854) says of a file.
type Metalink struct {
	Name    string // plain
	Size    int64  // bytes; 0: not known
	Digests []digest.Digest
	Pieces  Pieces
	Mirrors []Mirror
	// a detached OpenPGP signature in text; empty if there is none
	Signature string
}

// Pieces are digests of pieces of a file, all of one length but for the last. The zero value is none.
type Pieces struct {
	Length    int64 // bytes
	Algorithm digest.Algorithm
	Sums      []digest.Digest
}

// Mirror is a place where a file is. A lower priority is asked first.
type Mirror struct {
	Address
	Priority int
}

// Bounds of a Metalink document.
const (
	MaxMetalink  = 16 << 20 // bytes
	maxFiles     = 10000
	maxMirrors   = 100
	maxPieces    = 1 << 20
	maxSize      = 128 << 40 // bytes: the largest card (SD Physical Layer Simplified 9.00, 2: SDUC) holds 128 TB
	leastPiece   = 1 << 10   // bytes; smaller ones only cost time
	maxMetalinkT = 64 << 10
)

// metalinkXML is the document's form.
type metalinkXML struct {
	XMLName xml.Name          `xml:"urn:ietf:params:xml:ns:metalink metalink"`
	Files   []metalinkFileXML `xml:"file"`
}

type metalinkFileXML struct {
	Name   string `xml:"name,attr"`
	Size   string `xml:"size"`
	Hashes []struct {
		Type string `xml:"type,attr"`
		Text string `xml:",chardata"`
	} `xml:"hash"`
	Pieces []struct {
		Length string   `xml:"length,attr"`
		Type   string   `xml:"type,attr"`
		Hashes []string `xml:"hash"`
	} `xml:"pieces"`
	URLs []struct {
		Priority string `xml:"priority,attr"`
		Text     string `xml:",chardata"`
	} `xml:"url"`
	Torrents []struct{} `xml:"metaurl"`
	Signs    []struct {
		Type string `xml:"mediatype,attr"`
		Text string `xml:",chardata"`
	} `xml:"signature"`
}

// ReadMetalink reads the document. Relative URLs are refused. The error says what is wrong with it.
func ReadMetalink(text []byte) (files []Metalink, err error) {
	if len(text) > MaxMetalink {
		return nil, fmt.Errorf("has more than %d bytes", MaxMetalink)
	}
	var doc metalinkXML
	d := xml.NewDecoder(bytes.NewReader(text)) // it expands no entities of the document's own
	if err := d.Decode(&doc); err != nil {
		return nil, fmt.Errorf("is no Metalink document (RFC 5854): %w", err)
	}
	if err := onlyBlanks(d); err != nil {
		return nil, err
	}
	if len(doc.Files) == 0 || len(doc.Files) > maxFiles {
		return nil, fmt.Errorf("names %d files", len(doc.Files))
	}
	for _, x := range doc.Files {
		m, err := x.read()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", x.Name, err)
		}
		files = append(files, m)
	}
	return files, nil
}

// onlyBlanks reads what stands behind a document: blanks, comments and instructions may (Extensible Markup Language
// 1.0, section 2.1, production 27).
func onlyBlanks(d *xml.Decoder) error {
	for {
		switch token, err := d.Token(); t := token.(type) {
		case nil:
			if err != io.EOF {
				return fmt.Errorf("is no Metalink document (RFC 5854): %w", err)
			}
			return nil
		case xml.CharData:
			if len(bytes.TrimSpace(t)) == 0 {
				continue
			}
		case xml.Comment, xml.ProcInst:
			continue
		}
		return errors.New("is no Metalink document (RFC 5854): something stands behind it")
	}
}

func (x metalinkFileXML) read() (m Metalink, err error) {
	// section 4.1.2.1: no path that leads elsewhere
	if m.Name = PlainFileName(x.Name); m.Name == "" || strings.Contains("/"+x.Name+"/", "/../") {
		return m, errors.New("the name can't be that of a file")
	}
	if x.Size != "" {
		var ok bool
		if m.Size, ok = number(strings.TrimSpace(x.Size)); !ok || m.Size == 0 || m.Size > maxSize {
			return m, fmt.Errorf("the size %q makes no sense", x.Size)
		}
	}
	for _, h := range x.Hashes {
		d, known, err := hashOf(h.Type, h.Text)
		if err != nil {
			return m, err
		}
		if known {
			m.Digests = append(m.Digests, d)
		}
	}
	for _, p := range x.Pieces {
		pieces := Pieces{}
		var ok bool
		if pieces.Length, ok = number(strings.TrimSpace(p.Length)); !ok || pieces.Length < leastPiece || len(
			p.Hashes) > maxPieces {
			return m, errors.New("the pieces make no sense")
		}
		for _, text := range p.Hashes {
			d, known, err := hashOf(p.Type, text)
			if err != nil {
				return m, err
			}
			if !known {
				break
			}
			pieces.Algorithm, pieces.Sums = d.Algorithm, append(pieces.Sums, d)
		}
		if len(pieces.Sums) == 0 || pieces.Algorithm < m.Pieces.Algorithm {
			continue
		}
		if m.Size > 0 { // so that no end of a piece is too large a number
			pieces.Length = min(pieces.Length, m.Size)
		}
		if m.Size > 0 && int64(len(pieces.Sums)) != (m.Size-1)/pieces.Length+1 {
			return m, errors.New("there are not as many pieces as the size says")
		}
		m.Pieces = pieces
	}
	if m.Size == 0 {
		m.Pieces = Pieces{} // how long the last one is isn't known
	}
	for _, u := range x.URLs {
		if len(m.Mirrors) == maxMirrors {
			break
		}
		a, err := ParseAddress(strings.TrimSpace(u.Text))
		if err != nil {
			continue // of another kind, such as ftp
		}
		priority, ok := number(strings.TrimSpace(u.Priority))
		if !ok || priority < 1 || priority > worstPriority {
			priority = worstPriority
		}
		m.Mirrors = append(m.Mirrors, Mirror{a, int(priority)})
	}
	sortMirrors(m.Mirrors)
	if len(m.Mirrors) == 0 {
		return m, errors.New("no URL in it can be asked")
	}
	for _, s := range x.Signs {
		if strings.EqualFold(s.Type, "application/pgp-signature") && len(s.Text) <= maxMetalinkT {
			m.Signature = strings.TrimSpace(s.Text) + "\n"
		}
	}
	return m, nil
}

func sortMirrors(all []Mirror) {
	slices.SortStableFunc(all, func(a, b Mirror) int { return a.Priority - b.Priority })
}

// hashOf reads a digest; known is false for an algorithm that isn't known here.
func hashOf(name, text string) (d digest.Digest, known bool, err error) {
	a := map[string]digest.Algorithm{
		"md5": digest.MD5, "sha-1": digest.SHA1, "sha-224": digest.SHA224, "sha-256": digest.SHA256,
		"sha-384": digest.SHA384, "sha-512": digest.SHA512,
	}[strings.ToLower(strings.TrimSpace(name))]
	if a == 0 {
		return d, false, nil
	}
	sum, err := hex.DecodeString(strings.TrimSpace(text))
	if err != nil || len(sum) != a.Size() {
		return d, false, fmt.Errorf("the %s makes no sense", a)
	}
	return digest.New(a, sum), true, nil
}
