package view

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/pace"
	"zipstamp/internal/receipt"
)

// Mood is how good a result is.
type Mood string

// The moods.
const (
	IsGood  Mood = "good"
	IsBad   Mood = "bad"
	Caution Mood = "caution"
)

// MoodOf tells how good the result of a job is.
func MoodOf(doc receipt.Document) Mood {
	switch {
	case doc.Verdict == receipt.Good || doc.Verdict == receipt.Verdict(gauge.Holds):
		if doc.Recheck != nil && doc.Recheck.Differ > 0 {
			return Caution
		}
		if doc.Gauge != nil && doc.Gauge.Unkept > 0 {
			return Caution
		}
		return IsGood
	case slices.Contains([]receipt.Verdict{
		receipt.NotReadBack, receipt.Interrupted, receipt.Incomplete, receipt.Verdict(gauge.Unsteady),
		receipt.Verdict(gauge.Inconclusive),
	}, doc.Verdict):
		return Caution
	}
	return IsBad
}

// Text writes a receipt as a plain text, with the digest that shows that the record is unchanged.
func Text(w io.Writer, doc receipt.Document) {
	NewScreen(Streams{Out: w, Err: w, Environ: []string{"LANG=C.UTF-8"}, NoColor: true}).document(doc, doc.File, false)
	paragraph := func(text string) { fmt.Fprintf(w, "\n%s\n", fold(text, standard, "")) }
	if plainly := Plainly(doc); plainly != "" {
		paragraph(plainly)
		for _, text := range Method(doc) {
			paragraph(text)
		}
		fmt.Fprintln(w)
		for _, label := range ForTheShop(doc) {
			fmt.Fprintf(w, "%-14s %s\n", label, strings.Repeat("_", 40))
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintf(w, RecordDigest+": %s\n", doc.Digest)
}

// RecordDigest stands in every export of a receipt, before the digest of the record.
const RecordDigest = "SHA-256 of the record"

// Document shows a receipt: the result of a job that has ended, now or long ago. path is where it was kept; empty if it
// was not.
func (v *Screen) Document(doc receipt.Document, path string) { v.document(doc, path, true) }

// document shows a receipt; advise adds how to show it to others.
func (v *Screen) document(doc receipt.Document, path string, advise bool) {
	doc, path = fitToShow(doc), word(path)
	a := &answer{sentence: doc.Sentence}
	switch MoodOf(doc) {
	case IsGood:
		a.style = good
	case IsBad:
		a.style = bad
	default:
		a.style = caution
	}
	var ruler []string
	if g := doc.Gauge; g != nil && (g.Loss == nil || g.Loss.Exact) {
		ruler = v.ruler(g.Extents, g.Claimed, min(v.width-14, 72))
	}
	documentFacts(a, doc, ruler)
	if path != "" {
		a.add("receipt", "%s", oneLine(path))
	}
	documentNotes(a, doc)
	if advise && doc.Verdict == receipt.Verdict(gauge.Counterfeit) {
		a.note("zipstamp receipts export FILE.html makes a page of this to show to the seller.")
	}
	a.print(v.Out, v.width)
}

// Facts are the facts of a receipt, without the picture of the card.
func Facts(doc receipt.Document) []Fact {
	doc = fitToShow(doc)
	a := &answer{}
	documentFacts(a, doc, nil)
	return slices.DeleteFunc(a.facts, func(f Fact) bool { return f.Label == "card" || f.Label == "extents" })
}

// Notes are what to know of a result, and what to do next.
func Notes(doc receipt.Document) []string {
	doc = fitToShow(doc)
	a := &answer{}
	documentNotes(a, doc)
	return a.notes
}

func documentFacts(a *answer, doc receipt.Document, ruler []string) {
	switch {
	case doc.Gauge != nil:
		gaugeFacts(a, doc, ruler)
	case doc.Recheck != nil:
		recheckFacts(a, doc)
	case doc.Blank != nil:
		blankFacts(a, doc)
	case doc.Save != nil:
		saveFacts(a, doc)
	case doc.Pace != nil:
		paceFacts(a, doc)
	default:
		stampFacts(a, doc)
	}
}

func documentNotes(a *answer, doc receipt.Document) {
	switch {
	case doc.Gauge != nil:
		a.notes = gaugeNotes(doc)
	case doc.Recheck != nil:
		recheckNotes(a, doc)
	case doc.Blank != nil:
		blankNotes(a, doc)
	case doc.Save != nil:
		saveNotes(a, doc)
	case doc.Pace != nil:
		paceNotes(a, doc)
	case doc.Job == receipt.JobStamp:
		stampNotes(a, doc)
	}
}

// Exact is a size with the number of bytes beside it.
func Exact(n int64) string { return exact(n) }

// Place is an offset in bytes.
func Place(offset int64) string { return place(offset) }

// Method says in plain words how a result was found, for somebody who doesn't know the trade.
func Method(doc receipt.Document) []string {
	g := doc.Gauge
	if g == nil {
		return nil
	}
	var text []string
	say := func(format string, args ...any) { text = append(text, fmt.Sprintf(format, args...)) }
	stamps := "Each piece of 512 bytes that was written identifies itself: it has a number made for this test alone, " +
		"its own place on the card, and a pattern that follows from both. So what is read back at a place shows " +
		"whether it was written there, somewhere else, or not at all."
	switch gauge.Method(g.Method) {
	case gauge.BySpots:
		say("%d places all over the card were chosen: most by chance, some where cards often end. What was there was "+
			"saved. Then something was written to every one of them; and only when all were written, and more after "+
			"them, they were read, twice.", g.Tried)
		say("%s", stamps)
		say("Where places were lost, further places were tried between the last that holds and the first that " +
			"doesn't, until the boundary was found to the sector. At the end what had been there was written back.")
	case gauge.ByWhole:
		say("Every block of the card was written, from its start on, and read back.")
		say("%s", stamps)
		if g.Early > 0 {
			say("While the card was written, places behind were read again and again. When %s had been written, it "+
				"showed that what lay beyond the real size was not kept; then all that is real was read back.", Bytes(
				g.Early,
			))
		}
	case gauge.BySpace:
		say("The free space of the card was filled with files, which were then read back and removed.")
		say("%s", stamps)
	}
	switch card.Access(doc.Card.Access) {
	case card.Direct:
		say("All reading went to the card itself, round the computer's own memory.")
	case card.Dropped:
		say("Before reading, the computer's own memory of the card was dropped, so that the card itself answered.")
	case card.Simulated:
		say("The card is a practice card: one that is simulated in a file.")
	case card.Cached:
		say("On this system the computer's own memory could not be bypassed, so that it may have answered in place " +
			"of the card.")
	}
	if l := g.Loss; l != nil && l.Repeats {
		say("\"Addresses repeat\" means that what is written beyond the real size is stored over what was written " +
			"before, at the same distance each time.")
	}
	return text
}

// paceFacts are the facts of a measurement.
func paceFacts(a *answer, doc receipt.Document) {
	p := doc.Pace
	a.add("card", "%s, %s, %s", doc.Card.Name, exact(doc.Card.Size), cardKind(doc.Card))
	a.add("link", "%s", p.Link)
	a.add("sequential", "reads %s, writes %s, at its slowest %s", rateText(p.SequentialRead),
		rateText(p.SequentialWrite), rateText(p.SlowestWrite))
	a.add("random", "%s, %s, of 4 KiB each", perSecond(p.RandomReads, "read"), perSecond(p.RandomWrites, "write"))
	marks := strings.Join(p.Meets, ", ")
	if marks == "" {
		marks = "none"
	}
	a.add("marks met", "%s", marks)
	a.add("reads", "%s", accessFact(p.Reads, string(gauge.BySpots)))
	a.add("writes", "%s", accessFact(p.Writes, string(gauge.BySpots)))
	a.add("card or reader", "%s", strings.Join(paceLimits(p), "\n"))
	a.add("forgiven", "%s", mishapsFact(doc.Mishaps))
}

func perSecond(n float64, what string) string { return Count(int64(n), what) + " a second" }

func paceNotes(a *answer, doc receipt.Document) {
	if len(doc.Pace.Limits) == 0 && doc.Verdict == receipt.Good {
		a.note("Nothing shows that the reader slowed the card down; measuring it in another reader would tell.")
	}
	if slices.Contains(doc.Pace.Meets, "A1") || slices.Contains(doc.Pace.Meets, "A2") {
		return
	}
	a.note("The marks A1 (1,500 reads and 500 writes a second) and A2 (4,000 and 2,000) are promised for readers " +
		"that ask for several places at once; here each access waits for the one before.")
}

// PaceSentence is the answer of a measurement. err is why it did not come to its end; nil if it did.
func PaceSentence(name string, r *pace.Report, err error) string {
	name = word(name)
	switch {
	case err != nil:
		return fmt.Sprintf("The pace of %s could not be measured: %s.", name, gaugeFailure(name, err))
	case len(r.Meets()) == 0:
		return fmt.Sprintf("%s reads %s and writes %s sequentially, which is less than any mark promises.", name,
			rateText(r.ReadRate), rateText(r.WriteRate))
	}
	return fmt.Sprintf("%s reads %s and writes %s sequentially: as fast as %s promise.", name, rateText(r.ReadRate),
		rateText(r.WriteRate), listed(r.Meets(), len(r.Meets())))
}

// ReceiptsSentence is the answer of a list of receipts that were chosen from so many.
func ReceiptsSentence(chosen, of int) string {
	switch {
	case of == 0:
		return "There are no receipts yet."
	case chosen == 0 && of == 1:
		return "The only receipt doesn't match."
	case chosen == 0:
		return fmt.Sprintf("None of the %d receipts matches.", of)
	}
	return Count(chosen, "receipt") + ", the latest first:"
}

// Receipts lists receipts that were chosen from so many, the latest first. Each has the number by which it is shown.
func (v *Screen) Receipts(all []receipt.Document, numbers []int, of int) {
	a := &answer{style: strong, sentence: ReceiptsSentence(len(all), of)}
	for i, doc := range all {
		doc = fitToShow(doc)
		what := doc.Job + " " + word(doc.Card.Name)
		switch {
		case doc.Job == receipt.JobStamp:
			what = "stamp of " + FileName(doc.Image.Path) + " on " + word(doc.Card.Name)
		case doc.HasFiles():
			what = "files of " + FileName(doc.Image.Path) + " on " + word(doc.Card.Name)
		}
		a.add(fmt.Sprint(numbers[i]), "%s  %s (%s): %s", doc.Ended.Local().Format("2006-01-02 15:04"), what,
			whichCard(doc.Card), Finding(doc))
	}
	if len(all) > 0 {
		a.note("Show one: zipstamp receipts show NUMBER")
	}
	a.print(v.Out, v.width)
}

// whichCard is by what a card is known again that had a name only then, such as loop1.
func whichCard(c receipt.Card) string {
	parts := []string{Bytes(c.Size)}
	if c.OwnName != "" {
		parts = append([]string{word(c.OwnName)}, parts...)
	}
	if c.Model != "" {
		parts = append(parts, word(c.Model))
	}
	if c.Serial != "" && !c.Reader {
		parts = append(parts, word(c.Serial))
	}
	return strings.Join(parts, ", ")
}

// ExportedSentence is the answer of exporting a receipt.
func ExportedSentence(path string, doc receipt.Document) string {
	return fmt.Sprintf("Exported the receipt of %s, %s, to %s.", word(doc.Job)+" "+word(doc.Card.Name), Day(doc.Ended),
		word(path))
}

// Exported says that a receipt was exported.
func (v *Screen) Exported(path string, doc receipt.Document) {
	doc = fitToShow(doc)
	a := &answer{style: good, sentence: ExportedSentence(path, doc)}
	a.print(v.Out, v.width)
}
