package page

import (
	"io"

	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

// Picture writes a receipt as a PNG: the sentence, the card, the ruler and the curves.
func Picture(w io.Writer, doc receipt.Document, digest string) error {
	const margin, across = 40.0, width + 80
	f := Figure{Width: across}
	y := margin
	put := func(size float64, bold bool, ink Ink, text string) error {
		lines, err := wrap(text, size, width, bold)
		for _, l := range lines {
			y += size * 1.35
			f.shapes = append(f.shapes, words{margin, y, size, Start, ink, bold, l})
		}
		return err
	}
	if err := put(13, false, Faint, titles[doc.Job]+" "+doc.Card.Name+", "+view.Day(doc.Ended)); err != nil {
		return err
	}
	bar := y + 8
	if err := put(21, true, Text, doc.Sentence); err != nil {
		return err
	}
	f.rect(margin-14, bar, 6, y-bar+6, moodInk(view.MoodOf(doc)))
	if plainly := view.Plainly(doc); plainly != "" {
		y += 6
		if err := put(15, false, Text, plainly); err != nil {
			return err
		}
	}
	y += 14
	figure := func(g Figure) {
		f.put(g, margin, y)
		y += g.Height + 10
	}
	if g := doc.Gauge; g != nil && (g.Loss == nil || g.Loss.Exact) {
		figure(Ruler(g))
	}
	for _, fact := range append(cardFacts(doc), view.Facts(doc)...) {
		lines, err := wrap(fact.Text, 14, width-150, false)
		if err != nil {
			return err
		}
		for i, l := range lines {
			y += 20
			if i == 0 {
				f.text(margin, y, 14, Start, Faint, fact.Label)
			}
			f.text(margin+150, y, 14, Start, Text, l)
		}
	}
	y += 24
	if len(doc.Speed.Write)+len(doc.Speed.ReadBack) > 1 {
		f.bold(margin, y+6, 15, "Speed over position")
		y += 18
		figure(Curve(doc.Speed, doc.Card.Size))
	}
	reads, writes := access(doc)
	if reads.Count+writes.Count > 0 {
		f.bold(margin, y+6, 15, "Access times")
		y += 20
	}
	if reads.Count > 0 {
		figure(Histogram(reads, "reads: how many took how long"))
	}
	if writes.Count > 0 {
		figure(Histogram(writes, "writes: how many took how long"))
	}
	if method := view.Method(doc); len(method) > 0 {
		f.bold(margin, y+6, 15, "How this was found")
		y += 10
		for _, text := range method {
			if err := put(14, false, Text, text); err != nil {
				return err
			}
			y += 8
		}
	}
	for _, label := range view.ForTheShop(doc) {
		y += 28
		f.text(margin, y, 14, Start, Faint, label)
		f.line(Faint, 1, [2]float64{margin + 150, y + 4}, [2]float64{margin + 500, y + 4})
	}
	y += 10
	if digest != "" {
		if err := put(12, false, Faint, view.RecordDigest+": "+digest); err != nil {
			return err
		}
	}
	f.Height = y + margin
	return f.PNG(w)
}

// moodInk is the colour of a result.
func moodInk(m view.Mood) Ink {
	return map[view.Mood]Ink{view.IsGood: Fine, view.IsBad: Fault, view.Caution: Second}[m]
}
