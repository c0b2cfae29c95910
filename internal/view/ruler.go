package view

import (
	"math"
	"strconv"
	"strings"

	"zipstamp/internal/gauge"
)

// ruler draws what is known of a card from its start to its end, with a scale in GB below: what holds data solid, what
// is lost empty, single faults marked. It needs no colour to be read.
type ruler struct {
	holds, lost, fault, unknown string
	frame                       [2]string
	tick                        string
}

var (
	rulerUnicode = ruler{holds: "█", lost: "·", fault: "✗", unknown: "░", frame: [2]string{"│", "│"}, tick: "╵"}
	rulerASCII   = ruler{holds: "#", lost: ".", fault: "x", unknown: "?", frame: [2]string{"[", "]"}, tick: "'"}
)

func (v *Screen) ruler(extents []gauge.Stretch, size int64, width int) []string {
	r := rulerASCII
	if v.unicode {
		r = rulerUnicode
	}
	cells := max(width-2, 10)
	bar := r.frame[0] + strings.Join(r.cells(extents, size, cells), "") + r.frame[1]
	ticks, labels := r.scale(size, cells)
	return []string{bar, " " + ticks, " " + labels}
}

// cells are the parts of the bar. A part is drawn as most of it is; but what holds is seen however little it is, and so
// is a fault.
func (r ruler) cells(extents []gauge.Stretch, size int64, n int) []string {
	type share struct{ holds, lost, unknown, fault float64 }
	shares := make([]share, n)
	per := float64(size) / float64(n)
	for _, e := range extents {
		for i := int(float64(e.Offset) / per); i < n && float64(i)*per < float64(e.Offset+e.Length); i++ {
			part := math.Min(float64(e.Offset+e.Length), float64(i+1)*per) - math.Max(float64(e.Offset), float64(i)*per)
			s := &shares[i]
			switch gauge.State(e.State) {
			case gauge.Good:
				s.holds += part
			case gauge.Unwritten:
				s.unknown += part
			case gauge.Missing, gauge.Repeating:
				s.lost += part
			default:
				s.fault += part
			}
		}
	}
	cells := make([]string, n)
	for i, s := range shares {
		small := per / 16 // a lost place or two in what holds is a fault, and no end of the card
		switch {
		case s.fault > 0 || s.lost > 0 && s.lost < small && s.holds > s.lost:
			cells[i] = r.fault
		case s.unknown > s.holds && s.unknown > s.lost:
			cells[i] = r.unknown
		case s.holds >= s.lost || s.holds > 0 && i == 0:
			cells[i] = r.holds
		default:
			cells[i] = r.lost
		}
	}
	return cells
}

// scale gives the ticks and the numbers below the bar.
func (r ruler) scale(size int64, n int) (ticks, labels string) {
	unit, name := Capacity(size)
	full := float64(size) / unit
	step := Step(full, max(n/9, 2))
	line, text := []rune(strings.Repeat(" ", n+1)), []rune(strings.Repeat(" ", n+1))
	end := 0
	for i := 0; float64(i)*step <= full; i++ {
		value := float64(i) * step
		at := int(math.Round(value / full * float64(n)))
		label := strconv.FormatFloat(value, 'f', -1, 64)
		if float64(i+1)*step > full {
			label += " " + name
		}
		line[min(at, n)] = []rune(r.tick)[0]
		from := max(min(at-len(label)/2, n+1-len(label)), 0)
		if from < end {
			continue
		}
		copy(text[from:], []rune(label))
		end = from + len(label) + 1
	}
	return strings.TrimRight(string(line), " "), strings.TrimRight(string(text), " ")
}

// Capacity is the unit in which a card of a size is measured, bytes.
func Capacity(size int64) (unit float64, name string) {
	if size < 2e9 {
		return 1e6, "MB"
	}
	return 1e9, "GB"
}

// Step is a round distance, 1, 2 or 5 and noughts, between the ticks of a scale from 0 to full, so that there are at
// most so many.
func Step(full float64, most int) float64 {
	least := full / float64(most)
	power := math.Pow(10, math.Floor(math.Log10(least)))
	for _, m := range []float64{1, 2, 5, 10} {
		if m*power >= least {
			return m * power
		}
	}
	return 10 * power
}
