package view

import (
	"errors"
	"fmt"
	"time"

	"zipstamp/internal/blank"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
)

// BlankSentence is the answer of making an empty card. err is why it failed; nil if it did not.
func BlankSentence(name string, b *receipt.Blank, err error) string {
	name = word(name)
	var wrong *blank.WrongError
	switch {
	case err == nil && b.Label != "":
		return fmt.Sprintf("%s is empty: one %s file system named %s, of %s.", name, b.FileSystem, word(b.Label),
			Bytes(b.Size))
	case err == nil:
		return fmt.Sprintf("%s is empty: one %s file system, of %s.", name, b.FileSystem, Bytes(b.Size))
	case errors.Is(err, ErrInterrupted):
		return fmt.Sprintf("%s is not ready for use: it was interrupted, and has no partition table.", name)
	case errors.As(err, &wrong):
		return fmt.Sprintf("%s is not ready for use: what was written at %s does not read back as it was written. "+
			"Test it: zipstamp gauge whole", name, Bytes(wrong.Offset))
	}
	return fmt.Sprintf("%s is not ready for use: %s.", name, gaugeFailure(name, err))
}

// blankFacts are the facts of making an empty card.
func blankFacts(a *answer, doc receipt.Document) {
	if doc.HasFiles() {
		filesFacts(a, doc)
		return
	}
	a.add("card", "%s, %s, %s", doc.Card.Name, exact(doc.Card.Size), cardKind(doc.Card))
	if doc.Verdict == receipt.Good {
		a.add("partition", "from byte %s, %s", place(doc.Blank.Start), exact(doc.Blank.Size))
		if rest := doc.Card.Size - doc.Blank.Start - doc.Blank.Size; rest > doc.Card.Size/100 {
			a.add("not used", "%s", exact(rest))
		}
	}
	phaseFacts(a, doc)
	a.add("limits", "%s", memoryFact(doc))
	a.add("let go", "%s", letGoFact(doc))
}

// blankNotes are what to know of a card that was made.
func blankNotes(a *answer, doc receipt.Document) {
	switch {
	case doc.HasFiles():
		stampNotes(a, doc)
	case doc.Verdict == receipt.Good && layout.FSKind(doc.Blank.FileSystem) == layout.ExFATKind:
		a.note("Boards can't start from exFAT. For files that a board starts from: zipstamp blank --with FOLDER")
	}
}

// letGoFact is how a card was let go.
func letGoFact(doc receipt.Document) string {
	switch c := doc.Card; {
	case c.Why != "":
		return c.Why
	case c.Left != "":
		return c.Left + "; it can be taken out"
	case doc.Error == "" && c.Bus == string(disks.SDSlot):
		return "it can be taken out, once nothing of it is mounted"
	}
	return ""
}

// phaseFacts are how long the parts of the work took.
func phaseFacts(a *answer, doc receipt.Document) {
	for _, p := range doc.Phases {
		took := time.Duration(p.Seconds * float64(time.Second))
		switch {
		case p.Bytes > 0:
			a.add(p.Phase, "%s in %s, %s", Bytes(p.Bytes), span(took), rate(p.Bytes, took))
		case p.Seconds >= 0.05:
			a.add(p.Phase, "in %s", span(took))
		}
	}
}
