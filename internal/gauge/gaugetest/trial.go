// Package gaugetest tries the tests of cards on practice cards of every kind, made up by chance, and says where a
// verdict is wrong.
package gaugetest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"zipstamp/internal/card"
	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/gauge/whole"
)

// Suspect is a practice card of a trial, and what is true of it.
type Suspect struct {
	Spec   practice.Spec
	Bad    bool  // holds less than it claims
	Faults int64 // sectors of 512 bytes that never work
}

func (s Suspect) String() string {
	c := s.Spec
	return fmt.Sprintf("claims %d, holds %d, %s %s, cache %d, back %v, sector %d, faults %v", c.Claimed, c.Real,
		c.Beyond, c.Reads, c.Cache, c.WriteBack, c.Sector, c.Faults)
}

// sector is the unit in which cards are addressed, bytes.
const sector = mark.Size

// MostCached is the largest memory of a card that the tests see through, bytes.
const MostCached = gauge.Displaced

// Draw makes up a card that holds at most so much. It claims from 64 MB on (a little more than it holds) up to 2 TB.
func Draw(random *rand.Rand, mostReal int64) Suspect {
	reads := anyOf(random, practice.Zeros, practice.FF, practice.Noise, practice.Changing, practice.Last)
	real := (1<<20 + random.Int64N(mostReal-1<<20)) / sector
	if random.IntN(3) == 0 {
		real = mostReal >> random.IntN(5) / sector // powers of two too
	}
	real *= sector
	claimed := real + sector*(1+random.Int64N(64<<20/sector))
	if random.IntN(2) == 0 {
		claimed = min(int64(2e12), real*(2+random.Int64N(60))+sector*random.Int64N(2048))
	}
	if random.IntN(6) == 0 {
		claimed = real + sector*(1+random.Int64N(8)) // a little too small
	}
	if random.IntN(5) == 0 {
		claimed = int64([]float64{64e9, 128e9, 1e12, 2e12}[random.IntN(4)])
	}
	s := Suspect{Bad: true, Spec: practice.Spec{
		Version: practice.Version, Claimed: practice.Size(claimed), Real: practice.Size(real), Reads: reads,
		Seed: random.Uint64() >> 1, Sector: sector,
	}}
	if random.IntN(6) == 0 && real%4096 == 0 {
		s.Spec.Claimed = s.Spec.Claimed / 4096 * 4096
		s.Spec.Sector = 4096
		s.Bad = s.Spec.Claimed > s.Spec.Real
	}
	switch random.IntN(7) {
	case 0:
		s.Spec.Beyond, s.Spec.Reads = practice.Wrap, ""
	case 1:
		s.Spec.Beyond = practice.Drop
	case 2:
		s.Spec.Beyond, s.Spec.Claimed = []practice.Beyond{practice.Lazy, practice.Oldest}[random.IntN(2)], min(
			s.Spec.Claimed, 1<<30,
		)
	case 3:
		s.Spec.Beyond = practice.Ends
	case 4, 5:
		s.honest()
	case 6:
		s.honest()
		s.wear(random)
	}
	if random.IntN(2) == 0 {
		s.Spec.Cache = practice.Size(512 * random.Int64N(MostCached/512+1))
		if random.IntN(4) == 0 {
			s.Spec.Cache = MostCached
		}
		// through a larger part of a small card nothing sees
		s.Spec.Cache = min(s.Spec.Cache, s.Spec.Claimed/4/4096*4096)
		s.Spec.WriteBack = s.Spec.Cache >= 4096 && random.IntN(2) == 0
	}
	return s
}

// anywhere tells whether the card keeps what is written anywhere, so that addresses don't tell its size.
func (s Suspect) anywhere() bool {
	return s.Spec.Beyond == practice.Lazy || s.Spec.Beyond == practice.Oldest
}

func (s *Suspect) honest() { s.Spec.Claimed, s.Spec.Reads, s.Bad = s.Spec.Real, "", false }

// wear makes a few sectors bad.
func (s *Suspect) wear(random *rand.Rand) {
	f := practice.Fault{
		Sector: random.Int64N(int64(s.Spec.Real)/int64(s.Spec.Sector) - 64), Count: 1 + random.Int64N(40),
	}
	f.Kind = anyOf(random, practice.FailRead, practice.FailWrite, practice.Flip, practice.Misread)
	s.Faults = f.Count * int64(s.Spec.Sector) / sector
	if f.Kind == practice.Flip || f.Kind == practice.Misread {
		s.Faults = f.Count // a bit in each of the card's own sectors
	}
	s.Spec.Faults = []practice.Fault{f}
}

// Nonce draws one.
func Nonce(random *rand.Rand) (n mark.Nonce) {
	for i := range n {
		n[i] = byte(random.Uint32())
	}
	return n
}

// Reader takes one card after the other.
type Reader struct{ Folder string }

func (r Reader) path() string { return filepath.Join(r.Folder, "a.card") }

// Insert makes the card and puts it in; it takes the place of the one before.
func (r Reader) Insert(s practice.Spec) (card.Device, error) {
	if err := errors.Join(os.RemoveAll(r.path()), os.RemoveAll(r.path()+".data")); err != nil {
		return nil, err
	}
	s.Backing = filepath.Base(r.path()) + ".data"
	if err := practice.Create(r.path(), s); err != nil {
		return nil, err
	}
	c, err := here.Cards().Find(r.path())
	if err != nil {
		return nil, err
	}
	return c.Open()
}

// Fill gives the card something to hold, and Sum is the digest of all that it really holds.
func (r Reader) Fill(n int64, random *rand.Rand) error {
	f, err := os.OpenFile(r.path()+".data", os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	n -= n % sector
	piece := make([]byte, 1<<20)
	for at := int64(0); at < n; at += int64(len(piece)) {
		for i := 0; i < len(piece); i += sector {
			piece[i] = byte(random.Uint32())
		}
		if _, err := f.WriteAt(piece[:min(int64(len(piece)), n-at)], at); err != nil {
			return err
		}
	}
	return nil
}

// Sum is the digest of all that the card holds, up to 128 MiB.
func (r Reader) Sum() (sum [32]byte, err error) {
	f, err := os.Open(r.path() + ".data")
	if err != nil {
		return sum, err
	}
	defer f.Close()
	h := blake3.New()
	_, err = io.CopyBuffer(struct{ io.Writer }{h}, io.LimitReader(f, 128<<20), make([]byte, 1<<20))
	return [32]byte(h.Sum(nil)), err
}

// Whole tries the test of every block on a card. The error says what is wrong with its result.
func (r Reader) Whole(s Suspect, random *rand.Rand) error {
	d, err := r.Insert(s.Spec)
	if err != nil {
		return err
	}
	defer d.Close()
	rep, err := whole.Test{Device: d, Nonce: Nonce(random)}.Run(context.Background())
	if err != nil {
		return err
	}
	real := int64(s.Spec.Real)
	at, holds := int64(0), int64(0)
	for _, e := range rep.Extents {
		if e.Offset != at {
			return fmt.Errorf("the extents have a gap: %v", rep.Extents)
		}
		if at = e.End(); e.State == gauge.Good {
			holds += e.Length
		}
	}
	switch l := rep.Loss; {
	case at != int64(s.Spec.Claimed):
		return fmt.Errorf("the extents end at %d", at)
	case !s.Bad:
		return s.right(rep, s.Faults, 0)
	// as long as it has power, it has room for all
	case s.Spec.Beyond == practice.Oldest && s.Spec.WriteBack && at-real <= int64(s.Spec.Cache) &&
		rep.Verdict == gauge.Holds:
	// so little that is lost is called bad places
	case s.Spec.Beyond == practice.Oldest && rep.Verdict == gauge.Faulty && at-real < at/16:
	case s.Spec.Beyond == practice.Ends && rep.Verdict == gauge.Faulty && at-real < at/16: // likewise, in the middle
		if holds != real {
			return fmt.Errorf("%d are said to be good", holds)
		}
	case l == nil || rep.Verdict != gauge.Counterfeit:
		return fmt.Errorf("it is called %s", rep.Verdict)
	case s.Spec.Beyond == practice.Oldest:
		if l.Exact || !l.Anywhere || l.Real > real || l.Most < real-int64(s.Spec.Cache) {
			return fmt.Errorf("its size is said to be %+v", *l)
		}
	case rep.Early > real+real/50+64<<20:
		return fmt.Errorf("%d were written before it was found out", rep.Early)
	// its end could not be told from its memory
	case !l.Exact && s.Spec.Beyond == practice.Ends && l.Real == real/2/sector*sector:
	case l.Holds() != real || holds != real || !l.Exact:
		return fmt.Errorf("its size is said to be %+v, and %d good", *l, holds)
	case l.Repeats != (s.Spec.Beyond == practice.Wrap) || rep.Bad != (gauge.Counts{}):
		return fmt.Errorf("it is said to have %+v, %+v", *l, rep.Bad)
	}
	return nil
}

// right says what is wrong with the report of a card that has the size that it claims. least is how many faults must be
// found, and slack how many more may be.
func (s Suspect) right(rep *gauge.Report, least, slack int64) error {
	want := gauge.Holds
	if s.Faults > 0 && rep.Bad.Faults() > 0 {
		want = gauge.Faulty
	}
	if rep.Verdict != want || rep.Bad.Faults() < least || rep.Bad.Faults() > s.Faults+slack {
		return fmt.Errorf("it is called %s, with %+v", rep.Verdict, rep.Bad)
	}
	return nil
}

// Spots tries the test of spots on a card. The error says what is wrong with its result, or that it left the card other
// than it was.
func (r Reader) Spots(s Suspect, random *rand.Rand) error {
	d, err := r.Insert(s.Spec)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := r.Fill(int64(s.Spec.Real), random); err != nil {
		return err
	}
	before, err := r.Sum()
	if err != nil {
		return err
	}
	rep, restored, err := spots.Test{Device: d, Nonce: Nonce(random), Seed: random.Uint64()}.Run(context.Background())
	if err != nil {
		return err
	}
	if err := d.Close(); err != nil { // what is in its memory is stored then
		return err
	}
	after, err := r.Sum()
	// a memory larger than the card hides what is stored; then all stays saved, though it is back
	hidden := s.Bad && s.Spec.WriteBack && s.Spec.Cache >= s.Spec.Real
	switch {
	case err != nil:
		return err
	// else what stood in bad places may not come back, and stays saved
	case !restored && !hidden && s.Faults == 0 && (!s.Bad || rep.Loss != nil):
		return errors.New("not all was put back")
	case before != after && !s.anywhere() && s.Faults == 0:
		return errors.New("it is not as it was before")
	}
	return s.judgedBySpots(rep)
}

// judgedBySpots says what is wrong with a report of spots.
func (s Suspect) judgedBySpots(rep *gauge.Report) error {
	real, claimed := int64(s.Spec.Real), int64(s.Spec.Claimed)
	l := rep.Loss
	if l != nil {
		switch {
		case !s.Bad:
			return fmt.Errorf("an honest card is said to have %+v", *l)
		case l.Exact &&
			(s.anywhere() || l.Anywhere || l.Holds() != real || l.Repeats != (s.Spec.Beyond == practice.Wrap)):
			return fmt.Errorf("a wrong size is called exact: %+v", *l)
		case !l.Exact && (l.Holds() > real || l.Most > 0 && s.Spec.Beyond != practice.Ends && l.Most < min(real,
			rep.Displaced)):
			return fmt.Errorf("its size is not within the bounds: %+v", *l)
		case rep.Bad.Faults() > 0:
			return fmt.Errorf("it is said to have %+v and %+v", *l, rep.Bad)
		}
	}
	switch {
	case !s.Bad && rep.Places == 0:
		return errors.New("no place is right")
	case !s.Bad:
		return s.right(rep, 0, 14) // a place that fails is not narrowed to its sectors
	case s.anywhere() && rep.Verdict == gauge.Holds:
		if real < int64(rep.Tried)*mark.Size {
			return errors.New("it can't have had room for all")
		}
	// a few lost places in the middle look like bad places, if any place is there
	case s.Spec.Beyond == practice.Ends && claimed-real < claimed/8:
	case l == nil || rep.Verdict != gauge.Counterfeit:
		return fmt.Errorf("it is called %s, with %+v", rep.Verdict, rep.Bad)
	case !l.Exact && !s.anywhere() && real > gauge.Displaced:
		return fmt.Errorf("its size was not found: %+v", *l)
	}
	return nil
}

// anyOf is one of several values, by chance.
func anyOf[T any](random *rand.Rand, values ...T) T { return values[random.IntN(len(values))] }
