package meter

import (
	"slices"
	"sync"
	"time"
)

// MaxPoints is the most points that a Curve keeps, whatever the size of the card.
const MaxPoints = 256

// Point is a stretch of the card and the time that its transfer took.
type Point struct {
	Offset int64         // where the stretch starts, bytes
	Bytes  int64         // its length
	Took   time.Duration // time during which it was the stretch at hand
}

// Curve records speed over position: how long each stretch of a card took. When there would
// be more than MaxPoints stretches, neighbours are joined, so memory doesn't grow.
// The zero value is ready for use, from any goroutine.
type Curve struct {
	mu     sync.Mutex
	width  int64 // bytes a point covers
	points []Point
	last   time.Time
	late   bool // it was not started, so that no time is known of the first stretch
}

// Start sets the clock from which the first stretch is timed.
func (c *Curve) Start(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.last = now
}

// Mark tells that n bytes at offset are done. With several transfers in flight, the time since the Mark before is
// counted, so that the times add up to the time that passed. Of a first stretch without Start no time is known.
func (c *Curve) Mark(offset, n int64, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.width == 0 {
		c.width = n
	}
	for offset/c.width >= MaxPoints {
		c.halve()
	}
	i := int(offset / c.width)
	for len(c.points) <= i {
		c.points = append(c.points, Point{Offset: int64(len(c.points)) * c.width})
	}
	c.points[i].Bytes += n
	if c.last.IsZero() {
		c.late = true
	} else {
		c.points[i].Took += now.Sub(c.last)
	}
	c.last = now
}

func (c *Curve) halve() {
	c.width *= 2
	half := c.points[:0]
	for i := 0; i < len(c.points); i += 2 {
		p := c.points[i]
		if i+1 < len(c.points) {
			p.Bytes += c.points[i+1].Bytes
			p.Took += c.points[i+1].Took
		}
		half = append(half, p)
	}
	c.points = half
}

// together is the part of the time that a stretch of its length takes on the whole, below which its transfer has only
// come to its end together with another one.
const together = 0.01

// Points returns the stretches in order of position; those without a transfer are left out. One whose transfer ended
// together with another is joined with the stretch before it, since its own time says nothing.
func (c *Curve) Points() []Point {
	c.mu.Lock()
	defer c.mu.Unlock()
	var bytes int64
	var took time.Duration
	for _, p := range c.points {
		bytes, took = bytes+p.Bytes, took+p.Took
	}
	least := together * float64(took) / float64(max(bytes, 1)) // for a byte
	var out []Point
	for _, p := range c.points {
		if p.Bytes == 0 {
			continue
		}
		if n := len(out); n > 0 && (isTogether(p, least) || isTogether(out[n-1], least) && !(c.late && n == 1)) {
			out[n-1].Bytes += p.Bytes
			out[n-1].Took += p.Took
			continue
		}
		out = append(out, p)
	}
	return out
}

func isTogether(p Point, least float64) bool { return float64(p.Took) < least*float64(p.Bytes) }

// Join is a curve that goes on from another, with MaxPoints points at most.
func Join(before, after []Point) []Point {
	all := slices.Concat(before, after)
	for len(all) > MaxPoints {
		half := all[:0]
		for i := 0; i < len(all); i += 2 {
			p := all[i]
			if i+1 < len(all) {
				p.Bytes += all[i+1].Bytes
				p.Took += all[i+1].Took
			}
			half = append(half, p)
		}
		all = half
	}
	return all
}
