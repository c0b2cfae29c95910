// Package practice simulates memory cards, good and bad ones, in a file.
//
// A practice card is a TOML file that says how the card behaves (Spec), beside a backing file that keeps what the card
// really holds. Its errors are of the kinds that those of real devices are (package fault), so that whoever uses it
// can't tell the difference.
package practice

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Version is the version of the file format that this package reads and writes.
const Version = 1

// maxSpec bounds a practice card's file, in bytes.
const maxSpec = 64 << 10

// Spec says how a practice card behaves. Counts of bytes and of times start anew when the card is opened;
// what the card holds stays.
type Spec struct {
	Version int    `toml:"practice_card"`    // the version of the format, 1
	Backing string `toml:"backing"`          // the file with the contents; relative to the spec's folder
	Model   string `toml:"model,omitempty"`  // what the card says of itself
	Serial  string `toml:"serial,omitempty"` // likewise
	Sector  int    `toml:"sector,omitempty"` // logical sector, bytes: 512 (the default) or 4096

	// the size that the card says it has; sizes are rounded down to whole sectors
	Claimed Size   `toml:"claimed"`
	Real    Size   `toml:"real,omitempty"`   // the size that it has; none: as claimed
	Beyond  Beyond `toml:"beyond,omitempty"` // what happens beyond the real size
	Reads   Reads  `toml:"reads,omitempty"`  // what dropped places read as
	Cache   Size   `toml:"cache,omitempty"`  // the last bytes written that the card answers from memory, real or not

	// WriteBack says that what is written gets to its place only when the memory needs the room, or when the card is
	// taken out. A card that lies about its size doesn't store it by a flush either.
	WriteBack bool `toml:"write_back,omitempty"`
	// Volatile says that what is only in the memory of such a card is lost when it is taken out, and that a flush
	// doesn't store it either.
	Volatile bool `toml:"volatile,omitempty"`

	ReadRate  Rate     `toml:"read_rate,omitempty"`  // none: as fast as the backing file
	WriteRate Rate     `toml:"write_rate,omitempty"` //
	Latency   Duration `toml:"latency,omitempty"`    // of each access

	FadeAfter  Size     `toml:"fade_after,omitempty"`  // bytes written until it writes at FadeRate
	FadeRate   Rate     `toml:"fade_rate,omitempty"`   //
	StallEvery Size     `toml:"stall_every,omitempty"` // bytes written from one stall to the next
	Stall      Duration `toml:"stall,omitempty"`       // how long it lasts

	Discards    Discards `toml:"discards,omitempty"`     // what a discard does; none: the card takes none
	DiscardRate Rate     `toml:"discard_rate,omitempty"` // none: at once

	ReadOnly      bool `toml:"read_only,omitempty"`       // write-protected from the start
	ReadOnlyAfter Size `toml:"read_only_after,omitempty"` // bytes written until it becomes write-protected
	GoneAfter     Size `toml:"gone_after,omitempty"`      // bytes written and read until it is pulled out
	// bytes written and read until its reader is reset, once: it is gone, and comes back
	ResetsAfter Size `toml:"resets_after,omitempty"`
	// bytes written until the power is cut: of what was not flushed, any sectors are lost
	PowerCutAfter Size `toml:"power_cut_after,omitempty"`

	// bytes written until the power is cut in the midst of a write, of which the sectors before are stored
	TearAfter Size `toml:"tear_after,omitempty"`

	GoneAfterTime Duration `toml:"gone_after_time,omitempty"` // until it is pulled out
	ReaderLimit   Size     `toml:"reader_limit,omitempty"`    // its reader fails beyond this place
	Seed          uint64   `toml:"seed,omitempty"`            // of what happens by chance

	Faults []Fault `toml:"fault,omitempty"`
}

// Beyond is what a card does with places beyond its real size.
type Beyond string

// What may happen beyond the real size.
const (
	Wrap Beyond = "wrap" // addresses repeat
	Drop Beyond = "drop" // writes are acknowledged and lost
	// any place works until so many have been written as are real; then writes to others are lost
	Lazy   Beyond = "lazy"
	Oldest Beyond = "oldest" // likewise; but then what has been kept longest is lost
	Ends   Beyond = "ends"   // half of what is real is at the start, half at the end; writes between are lost
)

// Reads is what a card gives for places whose writes it drops.
type Reads string

// What may be read from dropped places.
const (
	Zeros    Reads = "zeros"
	FF       Reads = "ff"       // bytes of 0xFF
	Noise    Reads = "noise"    // the same at every reading
	Changing Reads = "changing" // noise that differs at every reading
	Last     Reads = "last"     // what was written last, wherever that was
)

// Discards is what a card does with discards.
type Discards string

// What may become of what was discarded.
const (
	ToZeros Discards = "zeros"
	ToFF    Discards = "ff" // bytes of 0xFF
	Ignored Discards = "nothing"
	Refused Discards = "fails" // with an I/O error
	// it reads as before, and is zeros when the card has been taken out
	LateZeros Discards = "zeros later"
	LateOld   Discards = "old data later" // zeros, and what was there before when the card has been taken out
	Around    Discards = "zeros around"   // zeros, also in the rest of the units of 4 MiB in which it begins and ends
	NoneToDo  Discards = ""               // the card takes none
)

// AllDiscards lists what cards that take discards do with them.
var AllDiscards = []Discards{ToZeros, ToFF, Ignored, Refused, LateZeros, LateOld, Around}

// Fault is a run of sectors that don't work.
type Fault struct {
	Kind   FaultKind `toml:"kind"`
	Sector int64     `toml:"sector"`           // the first one
	Count  int64     `toml:"count,omitempty"`  // how many; none: 1
	Times  int       `toml:"times,omitempty"`  // for the first so many accesses; none: always
	Chance float64   `toml:"chance,omitempty"` // that it shows at an access, from 0 to 1; none: 1
}

// FaultKind is how a sector fails.
type FaultKind string

// How sectors may fail.
const (
	FailRead  FaultKind = "read"    // reading it is an I/O error
	FailWrite FaultKind = "write"   // writing it is an I/O error
	Flip      FaultKind = "flip"    // one bit is stored wrong
	Misread   FaultKind = "misread" // one bit is read wrong
)

// ErrNotSpec says that a file isn't a practice card's.
var ErrNotSpec = errors.New("not a practice card")

// Load reads the practice card's file at path. ErrNotSpec says that it is something else.
func Load(path string) (Spec, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Spec{}, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxSpec {
		return Spec{}, ErrNotSpec
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return Spec{}, err
	}
	s, err := Parse(text)
	if err != nil {
		return Spec{}, err
	}
	if !beside(s.Backing) {
		return Spec{}, fmt.Errorf(
			"backing %q: the file must lie beside that of the card, and is named without a folder", s.Backing,
		)
	}
	s.Backing = filepath.Join(filepath.Dir(path), s.Backing)
	return s, nil
}

// beside tells whether a backing file is named as one that lies beside the card's own file. Others might be anything
// that its owner values.
func beside(backing string) bool {
	return filepath.IsLocal(backing) && filepath.Base(backing) == backing && !strings.ContainsAny(backing, `/\`)
}

// Parse reads a Spec. ErrNotSpec says that text is something else; other errors name the line.
func Parse(text []byte) (Spec, error) {
	if !declares(text) {
		return Spec{}, ErrNotSpec
	}
	var s Spec
	d := toml.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		var strict *toml.StrictMissingError
		if errors.As(err, &strict) && len(strict.Errors) > 0 {
			line, _ := strict.Errors[0].Position()
			return Spec{}, fmt.Errorf("line %d: %s is not a key of a practice card", line,
				strings.Join(strict.Errors[0].Key(), "."))
		}
		var at *toml.DecodeError
		if errors.As(err, &at) {
			line, column := at.Position()
			return Spec{}, fmt.Errorf("line %d, column %d: %w", line, column, err)
		}
		return Spec{}, err
	}
	return s.complete()
}

// declares tells whether the first line that says anything is the key by which these files are known.
func declares(text []byte) bool {
	for line := range bytes.Lines(text) {
		line = bytes.TrimSpace(line)
		if len(line) > 0 && line[0] != '#' {
			return bytes.HasPrefix(line, []byte("practice_card"))
		}
	}
	return false
}

// complete fills in what was left out, and refuses what makes no sense.
func (s Spec) complete() (Spec, error) {
	if s.Version != Version {
		return s, fmt.Errorf("practice card of version %d; this program knows version %d", s.Version, Version)
	}
	if s.Sector == 0 {
		s.Sector = 512
	}
	if s.Real == 0 {
		s.Real = s.Claimed
	}
	if s.Beyond == "" {
		s.Beyond = Wrap
	}
	if s.Reads == "" {
		s.Reads = Zeros
	}
	if s.Sector != 512 && s.Sector != 4096 {
		return s, fmt.Errorf("sector %d: a sector has 512 or 4096 bytes", s.Sector)
	}
	sector := Size(s.Sector)
	claimed, real := s.Claimed, s.Real
	s.Claimed -= s.Claimed % sector
	s.Real -= s.Real % sector
	if s.WriteBack {
		s.Cache -= s.Cache % sector
	}
	switch {
	case s.Backing == "":
		return s, errors.New("backing: no file is named")
	case s.Cache < 0:
		return s, errors.New("cache is not negative")
	case s.Claimed <= 0:
		return s, fmt.Errorf("claimed %v: less than a sector of %d bytes", claimed, s.Sector)
	case s.Real <= 0 || s.Real > s.Claimed:
		return s, fmt.Errorf("real %v: not between a sector and the claimed size", real)
	case !slices.Contains([]Beyond{Wrap, Drop, Lazy, Oldest, Ends}, s.Beyond):
		return s, fmt.Errorf("beyond %q: it is %q, %q, %q, %q or %q", s.Beyond, Wrap, Drop, Lazy, Oldest, Ends)
	case !slices.Contains([]Reads{Zeros, FF, Noise, Changing, Last}, s.Reads):
		return s, fmt.Errorf("reads %q: it is %q, %q, %q, %q or %q", s.Reads, Zeros, FF, Noise, Changing, Last)
	case s.Discards != NoneToDo && !slices.Contains(AllDiscards, s.Discards):
		return s, fmt.Errorf("discards %q: it is one of %q", s.Discards, AllDiscards)
	case s.Latency < 0 || s.Stall < 0 || s.GoneAfterTime < 0:
		return s, errors.New("latency, stall and gone_after_time are not negative")
	case s.WriteBack && s.Cache < sector:
		return s, errors.New("write_back needs a cache")
	case s.Volatile && !s.WriteBack:
		return s, errors.New("a volatile memory needs write_back too (practice new --write-back)")
	case s.WriteBack && s.PowerCutAfter > 0:
		return s, errors.New("write_back and power_cut_after don't go together; tear_after does")
	case (s.FadeAfter > 0) != (s.FadeRate > 0):
		return s, errors.New("fade_after and fade_rate go together")
	case (s.StallEvery > 0) != (s.Stall > 0):
		return s, errors.New("stall_every and stall go together")
	}
	for i := range s.Faults {
		if err := s.Faults[i].complete(s.Claimed / sector); err != nil {
			return s, fmt.Errorf("fault %d: %w", i+1, err)
		}
	}
	return s, nil
}

func (f *Fault) complete(sectors Size) error {
	if f.Count == 0 {
		f.Count = 1
	}
	switch f.Kind {
	case FailRead, FailWrite, Flip, Misread:
	default:
		return fmt.Errorf("kind %q: it is %q, %q, %q or %q", f.Kind, FailRead, FailWrite, Flip, Misread)
	}
	if f.Sector < 0 || f.Count < 0 || f.Sector > int64(sectors)-f.Count {
		return fmt.Errorf("sectors %d to %d are not on the card, which has %d", f.Sector, f.Sector+f.Count-1, sectors)
	}
	if f.Times < 0 {
		return errors.New("times is not negative")
	}
	if !(f.Chance >= 0 && f.Chance <= 1) {
		return errors.New("chance is from 0 to 1")
	}
	return nil
}

// Create writes s as a new file at path, and its backing file. Neither may exist before.
func Create(path string, s Spec) error {
	s.Version = Version
	full, err := s.complete()
	if err != nil {
		return err
	}
	text, err := toml.Marshal(s)
	if err != nil {
		return err
	}
	if !beside(s.Backing) {
		return fmt.Errorf("backing %q: the file must lie beside that of the card, and is named without a folder",
			s.Backing)
	}
	backing := filepath.Join(filepath.Dir(path), s.Backing)
	text = append([]byte("# A practice card for zipstamp; see docs/formats.md.\n"), text...)
	if err := writeNew(path, func(f *os.File) error { _, err := f.Write(text); return err }); err != nil {
		return err
	}
	if err := writeNew(backing, func(f *os.File) error { return f.Truncate(full.stored()) }); err != nil {
		os.Remove(path)
		return err
	}
	return nil
}

// writeNew makes a file that wasn't there; if it can't be filled, it isn't there afterwards.
func writeNew(path string, fill func(*os.File) error) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	err = errors.Join(fill(f), f.Close())
	if err != nil {
		os.Remove(path)
	}
	return err
}
