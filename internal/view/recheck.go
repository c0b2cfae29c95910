package view

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/receipt"
	"zipstamp/internal/recheck"
)

// RecheckSentence is the answer of reading a stamped card again. err is why it did not come to its end; nil if it did.
func RecheckSentence(name, imageName string, r *recheck.Report, err error) string {
	name, imageName = word(name), word(imageName)
	var short *recheck.ShortError
	switch {
	case errors.Is(err, ErrInterrupted):
		return fmt.Sprintf("The recheck of %s was interrupted.", name)
	case errors.As(err, &short):
		return fmt.Sprintf("%s can't hold %s: it has %s, and the image %s or more.", name, imageName, Bytes(short.Card), Bytes(short.Image))
	case errors.As(err, new(*card.GoneError)):
		return fmt.Sprintf("The recheck of %s came to no result: it was pulled out, or its reader was.", name)
	case err != nil:
		return fmt.Sprintf("The recheck of %s came to no result: %s.", name, gaugeFailure(name, err))
	case r.Same():
		return fmt.Sprintf("%s is as it was stamped: all %s of %s are on it.", name, Bytes(r.Compared), imageName)
	case r.Started() && r.Unsure() > 0:
		return fmt.Sprintf("%s has been written to since it was stamped. Nothing shows that it is damaged, but of %s that can't be told.", name, Bytes(r.Unsure()))
	case r.Started():
		return fmt.Sprintf("%s has been started, or written to, since it was stamped: it differs from %s only where that is to be expected.", name, imageName)
	case len(r.Failed) > 0:
		return fmt.Sprintf("%s is not as it was stamped: %s of it can't be read.", name, Bytes(lengths(r.Failed)))
	}
	return fmt.Sprintf("%s is not as it was stamped: it differs from %s where a start changes nothing.", name, imageName)
}

func lengths(all []recheck.Extent) (n int64) {
	for _, e := range all {
		n += e.Length
	}
	return n
}

// maxAreaLines is how many parts are listed; the receipt has more.
const maxAreaLines = 20

// recheckFacts are the facts of reading a stamped card again.
func recheckFacts(a *answer, doc receipt.Document) {
	c := doc.Recheck
	a.add("card", "%s, %s, %s", doc.Card.Name, exact(doc.Card.Size), cardKind(doc.Card))
	against := FileName(doc.Image.Path)
	if c.Against == "receipt" {
		against = "the receipt of the stamp with " + against
		if t, err := time.Parse(time.RFC3339, c.Stamped); err == nil {
			against += ", on " + Day(t)
		}
	}
	a.add("against", "%s", against)
	phaseFacts(a, doc)
	if c.Failed.Count+c.Extents.Count > 0 {
		a.add("differs", "%s, at %s", Bytes(c.Differ), count(c.Failed.Count+c.Extents.Count, "place"))
	}
	a.add("before", "%s", c.Before)
	a.add("not expected", "%s", areaLines(c.Areas, func(c receipt.Change) bool { return !c.Started && !c.Unsure }))
	a.add("can't be told", "%s", areaLines(c.Areas, func(c receipt.Change) bool { return c.Unsure }))
	a.add("by a start", "%s", areaLines(c.Areas, func(c receipt.Change) bool { return c.Started }))
}

// areaLines are the parts that differ, of one kind.
func areaLines(areas []receipt.Change, of func(receipt.Change) bool) string {
	var lines []string
	for _, one := range areas {
		if of(one) {
			lines = append(lines, fmt.Sprintf("%s: %s from byte %s; %s", word(one.Name), Bytes(one.Bytes), place(one.First), one.Why))
		}
	}
	if n := len(lines); n > maxAreaLines {
		lines = append(lines[:maxAreaLines], fmt.Sprintf("and %d more, in the receipt", n-maxAreaLines))
	}
	return strings.Join(lines, "\n")
}

// recheckNotes are what to know of reading a stamped card again, and what to do next.
func recheckNotes(a *answer, doc receipt.Document) {
	c := doc.Recheck
	if len(c.Areas) > 0 && c.Against == "receipt" {
		a.note("The receipt tells only which stretches of %s differ, so some of these parts may be as they were. With the image they are told exactly.", Bytes(c.Unit))
	}
	if doc.Verdict == receipt.Differs {
		a.note("Stamp the card again. If it differs again without having been used, test it: zipstamp gauge spots")
	}
}
