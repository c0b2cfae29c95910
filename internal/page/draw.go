package page

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"zipstamp/internal/gauge"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

// The sizes of drawings.
const (
	width      = 720.0
	leftMargin = 58.0
	labelSize  = 12.0
)

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// Ruler draws a card from its start to its end: what holds data solid, what is lost empty, single faults marked.
func Ruler(g *receipt.Gauge) Figure {
	const top, height = 16.0, 40.0
	f := Figure{Width: width, Height: top + height + 52}
	left, wide := 8.0, width-16
	x := func(at int64) float64 { return left + wide*float64(at)/float64(max(g.Claimed, 1)) }
	f.rect(left, top, wide, height, Paper)
	for _, e := range g.Extents {
		from, to := x(e.Offset), x(e.Offset+e.Length)
		switch gauge.State(e.State) {
		case gauge.Good:
			f.rect(from, top, max(to-from, 2), height, Holds)
		case gauge.Unwritten:
			for at := from + 4; at < to; at += 8 {
				f.line(Grid, 2, [2]float64{at, top + height}, [2]float64{min(at+height/2, to), top})
			}
		case gauge.Missing, gauge.Repeating:
		default:
			f.rect(from-1, top-8, max(to-from, 2), height+16, Fault)
		}
	}
	f.frame(left, top, wide, height, Text)
	unit, name := view.Capacity(g.Claimed)
	full := float64(g.Claimed) / unit
	step := view.Step(full, 9)
	for v := 0.0; v <= full; v += step {
		at := left + wide*v/full
		f.line(Faint, 1, [2]float64{at, top + height}, [2]float64{at, top + height + 6})
		anchor := Middle
		switch {
		case v == 0:
			anchor = Start
		case v+step > full && at > width-30:
			anchor = End
		}
		label := number(v)
		if v+step > full {
			label += " " + name
		}
		f.text(at, top+height+20, labelSize, anchor, Faint, label)
	}
	at := left
	for _, k := range []struct {
		ink   Ink
		label string
	}{
		{Holds, "holds what is written"},
		{Paper, "claimed, and not there"},
		{Fault, "bad places"},
		{Grid, "not tested"},
	} {
		if !slices.ContainsFunc(g.Extents, func(e gauge.Stretch) bool { return inkOf(gauge.State(e.State)) == k.ink }) {
			continue // what isn't there needs no explanation
		}
		f.rect(at, top+height+34, 12, 12, k.ink)
		f.frame(at, top+height+34, 12, 12, Faint)
		f.text(at+18, top+height+44, labelSize, Start, Faint, k.label)
		at += 172
	}
	return f
}

// inkOf is what a stretch in a state is drawn with.
func inkOf(s gauge.State) Ink {
	switch s {
	case gauge.Good:
		return Holds
	case gauge.Unwritten:
		return Grid
	case gauge.Missing, gauge.Repeating:
		return Paper
	}
	return Fault
}

// ceiling is up to where rates are drawn, bytes a second: a single one far above the others, which a memory of the card
// or of the computer has answered, must not make a line of these. none is above it as a rule.
func ceiling(lists ...[]receipt.Point) (most float64, cut bool) {
	var all []float64
	for _, list := range lists {
		for _, p := range list {
			all = append(all, p.Rate)
		}
	}
	if len(all) == 0 {
		return 0, false
	}
	slices.Sort(all)
	most = all[len(all)-1]
	if usual := all[(len(all)-1)*9/10]; most > 3*usual && usual > 0 {
		return 1.5 * usual, true
	}
	return most, false
}

// Curve draws speed over position.
func Curve(s receipt.Speed, size int64) Figure {
	const top, height = 16.0, 170.0
	f := Figure{Width: width, Height: top + height + 52}
	most, cut := ceiling(s.Write, s.ReadBack)
	end := int64(1)
	for _, list := range [][]receipt.Point{s.Write, s.ReadBack} {
		for i, p := range list {
			if i > 0 { // the last stretch is taken to be as long as the one before
				end = max(end, p.Offset+p.Offset-list[i-1].Offset)
			}
		}
	}
	if size > 0 {
		end = min(end, size)
	}
	full := most / 1e6 * 1.08
	left, wide := leftMargin, width-leftMargin-8
	y := func(rate float64) float64 { return top + height - height*min(rate/1e6/max(full, 1e-9), 1) }
	step := view.Step(full, 5)
	for v := 0.0; v <= full; v += step {
		f.line(Grid, 1, [2]float64{left, y(v * 1e6)}, [2]float64{left + wide, y(v * 1e6)})
		f.text(left-8, y(v*1e6)+4, labelSize, End, Faint, number(v))
	}
	f.text(left+4, top-2, labelSize, Start, Faint, "MB/s")
	if cut {
		f.text(left+wide, top-2, labelSize, End, Faint, "what is faster is drawn at the top")
	}
	unit, name := view.Capacity(end)
	long := float64(end) / unit
	across := view.Step(long, 8)
	for v := 0.0; v <= long; v += across {
		at := left + wide*v/long
		f.line(Faint, 1, [2]float64{at, top + height}, [2]float64{at, top + height + 5})
		label := number(v)
		if v+across > long {
			label += " " + name
		}
		f.text(at, top+height+19, labelSize, Middle, Faint, label)
	}
	f.line(Faint, 1, [2]float64{left, top + height}, [2]float64{left + wide, top + height})
	draw := func(list []receipt.Point, ink Ink) {
		var points [][2]float64
		for i, p := range list {
			at := left + wide*float64(p.Offset)/float64(end)
			next := end
			switch {
			case i+1 < len(list):
				next = list[i+1].Offset
			case i > 0:
				next = min(p.Offset+p.Offset-list[i-1].Offset, end)
			}
			points = append(points, [2]float64{at, y(p.Rate)}, [2]float64{
				min(left+wide*float64(next)/float64(end), left+wide), y(p.Rate),
			})
		}
		f.line(ink, 2, points...)
	}
	draw(s.Write, Holds)
	draw(s.ReadBack, Second)
	at := left
	for _, k := range []struct {
		list  []receipt.Point
		ink   Ink
		label string
	}{{s.Write, Holds, "writing"}, {s.ReadBack, Second, "reading back"}} {
		if len(k.list) > 0 {
			f.line(k.ink, 3, [2]float64{at, top + height + 38}, [2]float64{at + 18, top + height + 38})
			f.text(at+24, top+height+42, labelSize, Start, Faint, k.label)
			at += 130
		}
	}
	return f
}

// Histogram draws how long single accesses took, on a logarithmic scale.
func Histogram(a receipt.Access, what string) Figure {
	const top, height = 24.0, 110.0
	f := Figure{Width: width, Height: top + height + 30}
	left, wide := leftMargin, width-leftMargin-8
	f.text(left, 12, labelSize, Start, Faint, what)
	most := int64(1)
	for _, b := range a.Histogram {
		most = max(most, b.Count)
	}
	step := view.Step(float64(most), 4)
	y := func(n float64) float64 { return top + height - height*n/float64(most) }
	for v := 0.0; v <= float64(most); v += step {
		f.line(Grid, 1, [2]float64{left, y(v)}, [2]float64{left + wide, y(v)})
		f.text(left-8, y(v)+4, labelSize, End, Faint, number(v))
	}
	n := len(a.Histogram)
	each := wide / float64(max(n, 12))
	every := max((n+7)/8, 1)
	for i, b := range a.Histogram {
		at := left + each*float64(i)
		f.rect(at+1, y(float64(b.Count)), each-2, top+height-y(float64(b.Count)), Holds)
		if (i+1)%every == 0 {
			f.line(Faint, 1, [2]float64{at + each, top + height}, [2]float64{at + each, top + height + 5})
			anchor := Middle
			if at+each > width-30 {
				anchor = End
			}
			f.text(at+each, top+height+19, labelSize, anchor, Faint, short(b.Below))
		}
	}
	f.line(Faint, 1, [2]float64{left, top + height}, [2]float64{left + wide, top + height})
	return f
}

// digits writes a number with two digits that count, or all of its whole ones.
func digits(v float64) string {
	if v < 10 {
		return fmt.Sprintf("%.1f", v)
	}
	return fmt.Sprintf("%.0f", v)
}

// short is a time in few letters.
func short(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < time.Millisecond:
		return digits(seconds*1e6) + " µs"
	case d < time.Second:
		return digits(seconds*1e3) + " ms"
	}
	return digits(seconds) + " s"
}
