package page

import (
	"fmt"
	"html"
	"strings"
)

// SVG renders the figure. Its colours are the classes of the page's style sheet. title is for those who can't see it.
func (f Figure) SVG(title string) string {
	var b strings.Builder
	fmt.Fprintf(&b, `<svg viewBox="0 0 %.0f %.0f" role="img" aria-label="%s" xmlns="http://www.w3.org/2000/svg">`,
		f.Width, f.Height, html.EscapeString(title))
	for _, s := range f.shapes {
		switch s := s.(type) {
		case rect:
			class := "f-" + s.ink
			if s.outline {
				class = "s-" + s.ink
			}
			fmt.Fprintf(&b, `<rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%.1f"/>`, class, s.x, s.y,
				max(s.w, 0), max(s.h, 0))
		case line:
			fmt.Fprintf(&b, `<polyline class="s-%s" stroke-width="%.1f" points="`, s.ink, s.width)
			for i, p := range s.points {
				if i > 0 {
					b.WriteByte(' ')
				}
				fmt.Fprintf(&b, "%.1f,%.1f", p[0], p[1])
			}
			b.WriteString(`"/>`)
		case words:
			weight := ""
			if s.bold {
				weight = ` font-weight="700"`
			}
			fmt.Fprintf(&b, `<text class="f-%s" x="%.1f" y="%.1f" font-size="%.0f" text-anchor="%s"%s>%s</text>`, s.ink,
				s.x, s.y, s.size, s.anchor, weight, html.EscapeString(s.text))
		}
	}
	b.WriteString("</svg>")
	return b.String()
}
