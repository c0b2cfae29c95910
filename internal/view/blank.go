package view

import (
	"errors"
	"fmt"
	"time"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/receipt"
)

// BlankSentence is the answer of making an empty card. err is why it failed; nil if it did not.
func BlankSentence(name string, b *receipt.Blank, err error) string {
	var wrong *blank.WrongError
	switch {
	case err == nil && b.Label != "":
		return fmt.Sprintf("%s is empty: one FAT32 file system named %s, of %s.", name, b.Label, Bytes(b.Size))
	case err == nil:
		return fmt.Sprintf("%s is empty: one FAT32 file system, of %s.", name, Bytes(b.Size))
	case errors.Is(err, ErrInterrupted):
		return fmt.Sprintf("%s is not ready for use: it was interrupted, and has no partition table.", name)
	case errors.As(err, &wrong):
		return fmt.Sprintf("%s is not ready for use: what was written at %s does not read back as it was written. Test it: zipstamp gauge whole", name, Bytes(wrong.Offset))
	}
	return fmt.Sprintf("%s is not ready for use: %s.", name, gaugeFailure(name, err))
}

// Blanked shows the result of making an empty card. path is where the receipt was kept; empty if it was not.
func (v *Screen) Blanked(doc receipt.Document, path string, left card.Left) {
	a := &answer{style: good, sentence: doc.Sentence}
	switch doc.Verdict {
	case receipt.Failed:
		a.style = bad
	case receipt.Interrupted:
		a.style = caution
	}
	a.add("card", "%s, %s, %s", doc.Card.Name, exact(doc.Card.Size), cardKind(doc.Card))
	if doc.Verdict == receipt.Good {
		a.add("partition", "from byte %s, %s", place(doc.Blank.Start), exact(doc.Blank.Size))
		if rest := doc.Card.Size - doc.Blank.Start - doc.Blank.Size; rest > doc.Card.Size/100 {
			a.add("not used", "%s", exact(rest))
		}
	}
	for _, p := range doc.Phases {
		took := time.Duration(p.Seconds * float64(time.Second))
		a.add(p.Phase, "%s in %s, %s", Bytes(p.Bytes), span(took), rate(p.Bytes, took))
	}
	a.add("let go", "%s", leftFact(Stamped{Doc: doc, Left: left}))
	if path != "" {
		a.add("receipt", "%s", path)
	}
	a.print(v.Out, v.width)
}
