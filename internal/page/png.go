package page

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"math"
	"slices"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"zipstamp/internal/view"
)

// colours of the inks, on light paper: those of the page's style sheet.
var colours = map[Ink]color.RGBA{
	Text: {0x1c, 0x25, 0x2c, 0xff}, Faint: {0x5d, 0x6b, 0x76, 0xff}, Paper: {0xff, 0xff, 0xff, 0xff},
	Holds: {0x1f, 0x6f, 0x8b, 0xff}, Fault: {0xb4, 0x2b, 0x2b, 0xff}, Second: {0xb0, 0x6a, 0x00, 0xff},
	Fine: {0x1e, 0x6b, 0x3a, 0xff},
	Grid: {0xd9, 0xdf, 0xe3, 0xff},
}

// sharpness is how many pixels of the picture there are for one of the figure, each way.
const sharpness = 2

// canvas is a picture that a figure is drawn on.
type canvas struct {
	*image.RGBA
	faces map[face]font.Face
}

type face struct {
	size float64
	bold bool
}

// PNG renders the figure on light paper, with twice as many pixels each way as its size.
func (f Figure) PNG(w io.Writer) error {
	c := &canvas{image.NewRGBA(image.Rect(0, 0, int(f.Width*sharpness), int(f.Height*sharpness))), map[face]font.Face{}}
	draw.Draw(c, c.Bounds(), image.NewUniform(colours[Paper]), image.Point{}, draw.Src)
	for _, s := range f.shapes {
		switch s := s.(type) {
		case rect:
			c.rect(s)
		case line:
			c.line(s)
		case words:
			if err := c.words(s); err != nil {
				return err
			}
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, c); err != nil {
		return err
	}
	const end = 12 // bytes of the last chunk, IEND
	text := []byte("tEXtDescription\x00" + view.RecordDigest)
	chunk := binary.BigEndian.AppendUint32(nil, uint32(len(text)-4))
	chunk = append(chunk, text...)
	chunk = binary.BigEndian.AppendUint32(chunk, crc32.ChecksumIEEE(text))
	all := b.Bytes()
	_, err := w.Write(slices.Concat(all[:len(all)-end], chunk, all[len(all)-end:]))
	return err
}

func (c *canvas) rect(s rect) {
	if s.outline {
		c.line(line{
			[][2]float64{{s.x, s.y}, {s.x + s.w, s.y}, {s.x + s.w, s.y + s.h}, {s.x, s.y + s.h}, {s.x, s.y}}, s.ink, 1,
		})
		return
	}
	c.fill(s.ink, [][2]float64{{s.x, s.y}, {s.x + s.w, s.y}, {s.x + s.w, s.y + s.h}, {s.x, s.y + s.h}})
}

// fill fills a convex area.
func (c *canvas) fill(ink Ink, corners [][2]float64) {
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, p := range corners {
		x0, y0, x1, y1 = min(x0, p[0]), min(y0, p[1]), max(x1, p[0]), max(y1, p[1])
	}
	box := image.Rect(int(math.Floor(x0*sharpness)), int(math.Floor(y0*sharpness)), int(math.Ceil(x1*sharpness)),
		int(math.Ceil(y1*sharpness)))
	if box.Empty() {
		return
	}
	r := vector.NewRasterizer(box.Dx(), box.Dy()) // no larger than it must be: it goes through all of its pixels
	for i, p := range corners {
		x, y := float32(p[0]*sharpness)-float32(box.Min.X), float32(p[1]*sharpness)-float32(box.Min.Y)
		if i == 0 {
			r.MoveTo(x, y)
		} else {
			r.LineTo(x, y)
		}
	}
	r.ClosePath()
	r.Draw(c, box, image.NewUniform(colours[ink]), image.Point{})
}

func (c *canvas) line(s line) {
	for i := 1; i < len(s.points); i++ {
		if s.points[i] != s.points[i-1] {
			c.stroke(s.ink, s.width, s.points[i-1], s.points[i])
		}
	}
}

// stroke draws a straight line; a little longer than it is, so that lines that follow each other have no notch between
// them.
func (c *canvas) stroke(ink Ink, width float64, a, b [2]float64) {
	length := math.Hypot(b[0]-a[0], b[1]-a[1])
	ux, uy := (b[0]-a[0])/length*width/2, (b[1]-a[1])/length*width/2
	c.fill(ink, [][2]float64{
		{a[0] - ux - uy, a[1] - uy + ux},
		{b[0] + ux - uy, b[1] + uy + ux},
		{b[0] + ux + uy, b[1] + uy - ux},
		{a[0] - ux + uy, a[1] - uy - ux},
	})
}

func (c *canvas) words(s words) error {
	f, err := c.face(s.size, s.bold)
	if err != nil {
		return err
	}
	x := s.x * sharpness
	width := float64(font.MeasureString(f, s.text)) / 64
	switch s.anchor {
	case Middle:
		x -= width / 2
	case End:
		x -= width
	}
	d := font.Drawer{
		Dst: c, Src: image.NewUniform(colours[s.ink]), Face: f,
		Dot: fixed.Point26_6{X: fixed.Int26_6(x * 64), Y: fixed.Int26_6(s.y * sharpness * 64)},
	}
	d.DrawString(s.text)
	return nil
}

func (c *canvas) face(size float64, bold bool) (font.Face, error) {
	key := face{size, bold}
	if f, ok := c.faces[key]; ok {
		return f, nil
	}
	data := goregular.TTF
	if bold {
		data = gobold.TTF
	}
	parsed, err := opentype.Parse(data)
	if err != nil {
		return nil, err
	}
	f, err := opentype.NewFace(parsed, &opentype.FaceOptions{
		Size: size * sharpness, DPI: 72, Hinting: font.HintingNone,
	})
	if err != nil {
		return nil, err
	}
	c.faces[key] = f
	return f, nil
}

// wrap breaks a text into lines no wider than width, as it is drawn in a size.
func wrap(text string, size, width float64, bold bool) (lines []string, err error) {
	c := &canvas{faces: map[face]font.Face{}}
	f, err := c.face(size, bold)
	if err != nil {
		return nil, err
	}
	current := ""
	start := 0
	emit := func(end int) {
		current = text[start:end]
		lines = append(lines, current)
	}
	last := -1 // the blank after which the line may break
	for i := 0; i < len(text); i++ {
		if text[i] == '\n' {
			emit(i)
			start, last = i+1, -1
			continue
		}
		if text[i] == ' ' {
			last = i
		}
		if float64(font.MeasureString(f, text[start:i+1]))/64/sharpness > width && last > start {
			emit(last)
			start, last = last+1, -1
		}
	}
	emit(len(text))
	return lines, nil
}
