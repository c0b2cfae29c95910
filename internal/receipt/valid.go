package receipt

import (
	"errors"
	"fmt"
	"math"
)

// Bounds of what a receipt may say, against files that were made to do harm, or were damaged.
const (
	maxBytes   = 1 << 60 // of a size or offset
	maxRate    = 1e15    // bytes a second
	maxSeconds = 1e9
	maxPoints  = 4096
	maxMishaps = 4096
)

// valid tells whether the numbers of a receipt can be right. Whoever shows it relies on that.
func (d Document) valid() error {
	c := checker{}
	c.bytes("card.size", d.Card.Size)
	c.bytes("card.beyond", d.Card.Beyond)
	if d.Zone < -24*3600 || d.Zone > 24*3600 {
		c.fail("zone", fmt.Sprintf("can't be %d", d.Zone))
	}
	c.bytes("image.size", d.Image.Size, d.Image.Unpacked)
	c.bytes("bytes", d.Bytes.Written, d.Bytes.Verified, d.Bytes.Cleared, d.Bytes.Compared, d.Bytes.Spared.Same,
		d.Bytes.Discarded.Image, d.Bytes.Discarded.Rest, d.Bytes.Total)
	for _, p := range d.Phases {
		c.bytes("phases", p.Bytes)
		c.number("phases", p.Seconds, maxSeconds)
		c.number("phases", p.Card, maxSeconds)
		c.number("phases", p.Rate, maxRate)
	}
	for _, list := range [][]Point{d.Speed.Write, d.Speed.ReadBack} {
		c.most("speed", len(list), maxPoints)
		for _, p := range list {
			c.bytes("speed", p.Offset)
			c.number("speed", p.Rate, maxRate)
		}
	}
	c.extents("repairs", d.Repairs.Blocks)
	c.extents("bad", d.Bad)
	if d.Unsteady != nil {
		c.extents("unsteady", *d.Unsteady)
	}
	c.most("mishaps", len(d.Mishaps), maxMishaps)
	c.most("phases", len(d.Phases), maxPoints)
	for _, m := range d.Mishaps {
		c.bytes("mishaps", m.Offset)
	}
	if l := d.Loss; l != nil {
		c.bytes("loss", l.Holds)
	}
	if s := d.Spots; s != nil {
		c.bytes("spots", s.Real, s.Written)
		c.number("spots", s.Seconds, maxSeconds)
	}
	if k := d.Capacity; k != nil {
		c.bytes("capacity", k.Holds, int64(k.Marks), int64(k.Right), int64(k.Odd))
	}
	if b := d.Blank; b != nil {
		c.bytes("blank", b.Start, b.Size, b.RealSize)
		if f := b.Files; f != nil {
			c.bytes("blank.files", f.Bytes, f.Read)
		}
	}
	if s := d.Save; s != nil {
		c.bytes("save", s.Size, s.Packed, s.LeftOut, s.Zeroed)
		c.extents("save", s.Unread)
		if s.Unsteady != nil {
			c.extents("save", *s.Unsteady)
		}
	}
	if r := d.Recheck; r != nil {
		c.bytes("recheck", r.Compared, r.Unit, r.Differ)
		c.extents("recheck", r.Failed)
		c.extents("recheck", r.Extents)
		for _, a := range r.Areas {
			c.bytes("recheck.areas", a.Bytes, a.First)
		}
	}
	if p := d.Pace; p != nil {
		for _, n := range []float64{
			p.SequentialRead, p.SequentialWrite, p.SlowestWrite, p.RandomReads, p.RandomWrites, p.LinkRate,
		} {
			c.number("pace", n, maxRate)
		}
		c.access("pace", p.Reads)
		c.access("pace", p.Writes)
	}
	if g := d.Gauge; g != nil {
		c.gauge(g)
	}
	return c.err
}

// checker keeps the first number that can't be right.
type checker struct{ err error }

func (c *checker) fail(what, why string) {
	if c.err == nil {
		c.err = fmt.Errorf("%s %s", what, why)
	}
}

func (c *checker) bytes(what string, all ...int64) {
	for _, n := range all {
		if n < 0 || n > maxBytes {
			c.fail(what, fmt.Sprintf("can't be %d", n))
		}
	}
}

func (c *checker) number(what string, n, most float64) {
	if !(n >= 0 && n <= most) || math.IsNaN(n) {
		c.fail(what, fmt.Sprintf("can't be %g", n))
	}
}

func (c *checker) most(what string, n, most int) {
	if n > most {
		c.fail(what, fmt.Sprintf("can't have %d entries", n))
	}
}

func (c *checker) extents(what string, e Extents) {
	c.most(what, len(e.List), MaxExtents)
	for _, x := range e.List {
		c.bytes(what, x.Offset, x.Length)
	}
}

func (c *checker) access(what string, a Access) {
	c.bytes(what, a.Count, a.WorstAt)
	c.most(what, len(a.Histogram), maxPoints)
	for _, n := range []float64{a.Median, a.P95, a.P99, a.Worst} {
		c.number(what, n, maxSeconds)
	}
	for _, b := range a.Histogram {
		c.bytes(what, b.Count)
		c.number(what, b.Below, maxSeconds)
	}
}

var errExtents = errors.New("gauge.extents don't follow each other within what is claimed")

func (c *checker) gauge(g *Gauge) {
	if g.Claimed <= 0 {
		c.fail("gauge.claimed", fmt.Sprintf("can't be %d", g.Claimed))
	}
	c.bytes("gauge", g.Claimed, g.Tested, g.Holds, g.Limit, g.Changed, g.Displaced, g.Early, g.Unkept, g.Written,
		g.Read,
		int64(g.Tried), int64(g.Places), int64(g.Count))
	c.bytes("gauge.bad", g.Bad.Unsteady, g.Bad.Worn, g.Bad.Bits, g.Bad.Unreadable, g.Bad.Unwritable, g.Bad.Lost)
	c.number("gauge.share", g.Share, 1)
	c.number("gauge.confidence", g.Level, 1)
	if l := g.Loss; l != nil {
		c.bytes("gauge.loss", l.Real, l.Tail, l.Most, l.Cached)
	}
	if s := g.Slowest; s != nil {
		c.bytes("gauge.slowest", s.At)
		c.number("gauge.slowest", s.Rate, maxRate)
	}
	c.access("gauge.reads", g.Reads)
	c.access("gauge.writes", g.Writes)
	c.most("gauge.extents", len(g.Extents), MaxExtents)
	at := int64(0)
	for _, e := range g.Extents {
		if e.Offset < at || e.Length < 0 || e.Length > g.Claimed-e.Offset {
			if c.err == nil {
				c.err = errExtents
			}
			return
		}
		at = e.Offset + e.Length
	}
}
