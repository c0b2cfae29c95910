// Package systems reads, keeps and makes lists of systems: what a publisher offers, for which boards, where it is, and
// which digests it has. docs/formats.md describes the format, and docs/schemas/list.json is its schema.
package systems

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"

	"zipstamp/internal/digest"
)

// Version is that of the format.
const Version = 1

// Bounds of a list.
const (
	MaxList    = 32 << 20 // bytes
	maxSystems = 50_000
	maxURLs    = 16
	maxBoards  = 200
	maxText    = 1 << 10 // bytes
	maxNotes   = 8 << 10 // bytes
)

// List is what somebody offers.
type List struct {
	Format    int       `json:"zipstamp_systems" toml:"zipstamp_systems"`
	Name      string    `json:"name" toml:"name"`
	Edition   int64     `json:"edition" toml:"edition"`                    // grows with each one that is published
	Published time.Time `json:"published,omitzero" toml:"published"`       //
	Expires   time.Time `json:"expires,omitzero" toml:"expires,omitempty"` // from when on it is not to be relied on
	Systems   []System  `json:"system" toml:"system"`
}

// System is an image that is offered.
type System struct {
	Name    string    `json:"name" toml:"name"`
	Version string    `json:"version" toml:"version"`
	Written any       `json:"date" toml:"date"`                         // Date, as the list has it
	Date    time.Time `json:"-" toml:"-"`                               // a day, UTC
	Boards  []string  `json:"boards,omitempty" toml:"boards,omitempty"` // by their device trees, or freely
	// the first is asked first; relative to that of the list
	URLs []string `json:"urls" toml:"urls"`
	Size int64    `json:"size" toml:"size"` // of the download, bytes
	// of the download: sha256:..., as digest.Parse reads it
	Digest   string `json:"digest" toml:"digest"`
	Unpacked int64  `json:"unpacked_size,omitempty" toml:"unpacked_size,omitempty"`
	Image    string `json:"unpacked_digest,omitempty" toml:"unpacked_digest,omitempty"`
	Smallest int64  `json:"smallest_card,omitempty" toml:"smallest_card,omitempty"` // bytes
	Notes    string `json:"notes,omitempty" toml:"notes,omitempty"`
	// the name of the system that comes in its place
	Successor string `json:"successor,omitempty" toml:"successor,omitempty"`
}

const dateForm = "2006-01-02"

// day is the day that a list has: a text such as 2026-11-18, or a date or time of TOML.
func day(written any) (time.Time, error) {
	switch w := written.(type) {
	case string:
		for _, form := range []string{dateForm, time.RFC3339} {
			if t, err := time.Parse(form, w); err == nil {
				return t.UTC().Truncate(24 * time.Hour), nil
			}
		}
	case toml.LocalDate:
		return w.AsTime(time.UTC), nil
	case toml.LocalDateTime:
		return w.AsTime(time.UTC).Truncate(24 * time.Hour), nil
	case time.Time:
		return w.UTC().Truncate(24 * time.Hour), nil
	}
	return time.Time{}, errors.New("date is missing, or none such as 2026-11-18")
}

// Read reads a list, in TOML or JSON. The error says what is wrong with it.
func Read(text []byte) (l List, err error) {
	if len(text) > MaxList {
		return l, fmt.Errorf("has more than %d bytes", MaxList)
	}
	if !utf8.Valid(text) {
		return l, errors.New("is no text in UTF-8")
	}
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) {
		err = json.Unmarshal(text, &l)
	} else {
		err = toml.Unmarshal(text, &l)
	}
	var at *toml.DecodeError
	switch {
	case errors.As(err, &at):
		line, _ := at.Position()
		return l, fmt.Errorf("is no list of systems: line %d: %s", line, strings.TrimPrefix(at.Error(), "toml: "))
	case err != nil:
		return l, fmt.Errorf("is no list of systems: %w", err)
	case l.Format == 0:
		return l, errors.New("is no list of systems: it has no zipstamp_systems")
	case l.Format > Version:
		return l, fmt.Errorf("is a list of version %d, and this program knows version %d", l.Format, Version)
	}
	return l, l.check()
}

// check refuses what no list can be.
func (l *List) check() error {
	switch {
	case !isText(l.Name, maxText):
		return errors.New("has no name, or one that can't be shown")
	case l.Edition < 1:
		return errors.New("has no edition: a number that grows with each one")
	case len(l.Systems) > maxSystems:
		return fmt.Errorf("has %d systems; at most %d can be read", len(l.Systems), maxSystems)
	}
	for i := range l.Systems {
		if err := l.Systems[i].check(); err != nil {
			return fmt.Errorf("system %d (%s): %w", i+1, shown(l.Systems[i].Name), err)
		}
	}
	return nil
}

func shown(name string) string {
	if !isText(name, maxText) {
		return "without a name"
	}
	return name
}

func (s *System) check() (err error) {
	if s.Date, err = day(s.Written); err != nil {
		return err
	}
	switch {
	case !isText(s.Name, maxText):
		return errors.New("name is missing, or can't be shown")
	case strings.ContainsAny(s.Name, "@/\\"):
		return errors.New("name has one of the characters @ / \\ in it")
	case !isText(s.Version, maxText) || strings.Contains(s.Version, "@"):
		return errors.New("version is missing, or can't be shown")
	case len(s.Boards) > maxBoards:
		return fmt.Errorf("boards has %d names; at most %d can be read", len(s.Boards), maxBoards)
	case len(s.URLs) == 0 || len(s.URLs) > maxURLs:
		return fmt.Errorf("urls has %d addresses; it must have 1 to %d", len(s.URLs), maxURLs)
	case s.Size <= 0 || s.Unpacked < 0 || s.Smallest < 0:
		return errors.New("a size is missing, or can't be right")
	case len(s.Notes) > maxNotes || s.Successor != "" && !isText(s.Successor, maxText):
		return errors.New("notes or successor are too long, or can't be shown")
	}
	for _, board := range s.Boards {
		if !isText(board, maxText) {
			return errors.New("a name in boards can't be shown")
		}
	}
	for _, u := range s.URLs {
		if p, err := url.Parse(u); err != nil || len(u) > 8*maxText || p.Scheme != "" && p.Scheme != "https" &&
			p.Scheme !=
				"http" {
			return errors.New("urls has what is no address of https")
		}
	}
	if d, err := digest.Parse(s.Digest); err != nil || d.Algorithm.Forgeable() {
		return errors.New("digest must be one of the download by SHA-256 or better")
	}
	if s.Image != "" {
		if _, err := digest.Parse(s.Image); err != nil {
			return errors.New("unpacked_digest is no digest")
		}
	}
	return nil
}

// isText tells whether a text is there, short enough, and made of what can be shown in a line.
func isText(s string, most int) bool {
	return strings.TrimSpace(s) != "" && len(s) <= most && utf8.ValidString(s) && !strings.ContainsFunc(s,
		func(r rune) bool { return !unicode.IsPrint(r) })
}

// Known is the digest of the download.
func (s System) Known() digest.Digest {
	d, _ := digest.Parse(s.Digest) // check has seen it
	return d
}

// Unpacks is the digest of the unpacked image; the zero value if that isn't known.
func (s System) Unpacks() digest.Digest {
	d, _ := digest.Parse(s.Image)
	return d
}

// Title is its name and version.
func (s System) Title() string { return s.Name + " " + s.Version }

// IsFor tells whether it is for a board, by any part of a name.
func (s System) IsFor(board string) bool {
	return slices.ContainsFunc(s.Boards, func(b string) bool { return strings.Contains(plain(b), plain(board)) })
}

// Has tells whether a text is in what is said of it.
func (s System) Has(text string) bool {
	return strings.Contains(plain(strings.Join(append([]string{s.Name, s.Version, s.Notes}, s.Boards...), " ")),
		plain(text))
}

// Is tells whether a name stands for it, with or without a version behind @. Case doesn't matter, nor does whether
// words are kept apart by spaces, hyphens or underscores.
func (s System) Is(name string) bool {
	name, version, versioned := strings.Cut(name, "@")
	return plain(name) == plain(s.Name) && (!versioned || plain(version) == plain(s.Version))
}

// plain is a text to compare: blanks, hyphens and case tell nothing apart.
func plain(text string) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return r == '-' || r == '_' || unicode.IsSpace(r)
	}), " ")
}

// Old tells whether a list is past its time.
func (l List) Old(now time.Time) bool { return !l.Expires.IsZero() && now.After(l.Expires) }
