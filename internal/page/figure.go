// Package page makes pages and pictures of receipts: something to keep, to print, and to show to a seller.
//
// A Figure is drawn once, of rectangles, lines and words, and rendered as SVG, which is part of a page, or as PNG.
package page

// Ink is what a shape is drawn with. Each has a colour of its own on light and on dark paper.
type Ink string

// The inks.
const (
	Text   Ink = "text"
	Faint  Ink = "faint"  // scales, and words that explain
	Paper  Ink = "paper"  // what is empty
	Holds  Ink = "holds"  // what holds data, and curves
	Fault  Ink = "fault"  // single bad places
	Second Ink = "second" // a second curve; a result that says little
	Fine   Ink = "good"   // a good result
	Grid   Ink = "grid"
)

// Anchor is where a text starts from.
type Anchor string

// The anchors.
const (
	Start  Anchor = "start"
	Middle Anchor = "middle"
	End    Anchor = "end"
)

// Figure is a drawing. Lengths are in pixels of a screen at 96 to the inch; y grows downwards.
type Figure struct {
	Width, Height float64
	shapes        []shape
}

// shape is one of rect, line and words.
type shape any

type rect struct {
	x, y, w, h float64
	ink        Ink
	outline    bool
}

type line struct {
	points [][2]float64
	ink    Ink
	width  float64
}

type words struct {
	x, y   float64 // of the base line
	size   float64
	anchor Anchor
	ink    Ink
	bold   bool
	text   string
}

func (f *Figure) rect(x, y, w, h float64, ink Ink) {
	f.shapes = append(f.shapes, rect{x, y, w, h, ink, false})
}

func (f *Figure) frame(x, y, w, h float64, ink Ink) {
	f.shapes = append(f.shapes, rect{x, y, w, h, ink, true})
}

func (f *Figure) line(ink Ink, width float64, points ...[2]float64) {
	f.shapes = append(f.shapes, line{points, ink, width})
}

func (f *Figure) text(x, y, size float64, anchor Anchor, ink Ink, text string) {
	f.shapes = append(f.shapes, words{x, y, size, anchor, ink, false, text})
}

func (f *Figure) bold(x, y, size float64, text string) {
	f.shapes = append(f.shapes, words{x, y, size, Start, Text, true, text})
}

// put puts the shapes of another figure into this one.
func (f *Figure) put(other Figure, x, y float64) {
	for _, s := range other.shapes {
		switch s := s.(type) {
		case rect:
			s.x, s.y = s.x+x, s.y+y
			f.shapes = append(f.shapes, s)
		case line:
			moved := make([][2]float64, len(s.points))
			for i, p := range s.points {
				moved[i] = [2]float64{p[0] + x, p[1] + y}
			}
			s.points = moved
			f.shapes = append(f.shapes, s)
		case words:
			s.x, s.y = s.x+x, s.y+y
			f.shapes = append(f.shapes, s)
		}
	}
}
