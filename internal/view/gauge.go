package view

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/whole"
	"zipstamp/internal/receipt"
)

// GaugeSentence is the answer of a test in one sentence. err is why it did not come to its end; nil if it did.
func GaugeSentence(name string, r *gauge.Report, err error) string {
	sentence := gaugeVerdict(name, r, err)
	if r.Unkept > 0 {
		sentence = fmt.Sprintf("%s; but %s did not keep what was written before the interruption.",
			strings.TrimRight(sentence, "."), Bytes(r.Unkept))
	}
	return sentence
}

func gaugeVerdict(name string, r *gauge.Report, err error) string {
	name = word(name)
	size := Bytes(r.Claimed)
	if r.Tested > 0 && r.Tested < r.Claimed {
		size = "the first " + Bytes(r.Tested)
	}
	switch r.Verdict {
	case gauge.Counterfeit:
		return counterfeitSentence(name, r)
	case gauge.Faulty:
		if r.Tested < r.Claimed {
			return fmt.Sprintf("%s is faulty: in %s, %s.", name, size, faultClause(r.Bad))
		}
		return fmt.Sprintf("%s is faulty: its size is right, but %s.", name, faultClause(r.Bad))
	case gauge.Unsteady:
		return fmt.Sprintf("%s is unsteady: %s did not read the same twice, or failed once and then went right.", name,
			Count(r.Bad.Unsteady, "sector"))
	case gauge.Holds:
		if r.Method == gauge.BySpots {
			return fmt.Sprintf(
				"%s seems to hold what it claims: all places that were tried in %s hold what was written.", name, size,
			)
		}
		if r.Tested < r.Claimed {
			return fmt.Sprintf("%s of %s hold what is written: every block was written and read back right.",
				strings.Replace(size, "the", "The", 1), name)
		}
		return fmt.Sprintf("%s holds what it claims: all %s were written and read back right.", name, size)
	}
	var stuck *card.StuckError
	switch {
	case errors.As(err, &stuck):
		return fmt.Sprintf(
			"The test of %s came to no result: from %s on it took no writes any more, as worn-out cards do.", name,
			Bytes(stuck.Offset),
		)
	case errors.Is(err, ErrInterrupted):
		return fmt.Sprintf("The test of %s was interrupted, and came to no result.", name)
	case errors.As(err, new(*card.GoneError)):
		return fmt.Sprintf("The test of %s came to no result: it was pulled out, or its reader was.", name)
	case r.Limit > 0:
		return fmt.Sprintf(
			"The test of %s came to no result beyond %s: everything there fails, and all below holds what was written.",
			name, Bytes(r.Limit),
		)
	case err != nil:
		return fmt.Sprintf("The test of %s came to no result: %s.", name, gaugeFailure(name, err))
	}
	return fmt.Sprintf("The test of %s came to no result.", name)
}

// gaugeFailure is why a test ended, as a clause.
func gaugeFailure(name string, err error) string {
	var failed *card.IOError
	if errors.As(err, &failed) {
		return failedClause(name, failed)
	}
	return strings.TrimRight(ProblemSentence(err), ".")
}

func counterfeitSentence(name string, r *gauge.Report) string {
	text := fakeClause(name, *r.Loss, r.Claimed)
	if r.Bad.Faults() > 0 {
		text += fmt.Sprintf(". It is faulty too: below that, %s, so it can't be trusted for anything",
			faultClause(r.Bad))
	}
	return text + "."
}

// fakeClause is how a card holds less than it claims, as a clause.
func fakeClause(name string, l gauge.Loss, claims int64) string {
	claimed := Bytes(claims)
	switch {
	case l.Anywhere && l.Real == 0 && l.Most == 0:
		return fmt.Sprintf(
			"%s is counterfeit: it loses what is written here and there, so it holds less than the %s that it claims",
			name, claimed,
		)
	case l.Anywhere && l.Real == 0:
		return fmt.Sprintf("%s is counterfeit: it claims %s, and keeps at most %s of what was written last", name,
			claimed, Bytes(l.Most))
	case l.Anywhere:
		return fmt.Sprintf("%s is counterfeit: it claims %s, and keeps about %s, wherever that is written (%s)", name,
			claimed, Bytes(about(l)), boundsClause(l))
	case l.Holds() == 0:
		return fmt.Sprintf("%s is counterfeit: it claims %s, and keeps nothing of what is written to it", name, claimed)
	case !l.Exact && l.Tail == 0:
		return fmt.Sprintf("%s is counterfeit: it holds about %s of the %s that it claims (%s)", name, Bytes(about(l)),
			claimed, boundsClause(l))
	case l.Tail > 0:
		return fmt.Sprintf("%s is counterfeit: of the %s that it claims it holds %s, %s at its start and %s at its "+
			"end; what is written between them is lost", name, claimed, Bytes(l.Holds()), Bytes(l.Real), Bytes(l.Tail))
	case l.Repeats:
		return fmt.Sprintf(
			"%s is counterfeit: it holds %s of the %s that it claims; what is written beyond overwrites what is there",
			name, Bytes(l.Real), claimed,
		)
	}
	return fmt.Sprintf("%s is counterfeit: it holds %s of the %s that it claims; what is written beyond is lost", name,
		Bytes(l.Real), claimed)
}

// about is the size between bounds that is named.
func about(l gauge.Loss) int64 {
	if l.Most == 0 {
		return l.Real
	}
	return l.Real + (l.Most-l.Real)/2
}

// boundsClause says between which bounds a size is that is not exact.
func boundsClause(l gauge.Loss) string {
	if l.Most == 0 {
		return "at least " + Bytes(l.Real)
	}
	return fmt.Sprintf("from %s to %s", Bytes(l.Real), Bytes(l.Most))
}

// SpaceSentence is the answer of a test of free space.
func SpaceSentence(folder string, r *gauge.Report, err error) string {
	folder = word(folder)
	written := Bytes(r.Tested)
	if err != nil {
		written = "what was" // how much of it was read back is known roughly
	}
	switch r.Verdict {
	case gauge.Counterfeit:
		return fmt.Sprintf("The card under %s loses data: of %s written to its free space, %s came back.", folder,
			Bytes(r.Tested), Bytes(r.Loss.Real))
	case gauge.Faulty:
		return fmt.Sprintf("The card under %s is faulty: of %s written to its free space, %s.", folder, written,
			faultClause(r.Bad))
	case gauge.Unsteady:
		return fmt.Sprintf("The card under %s is unsteady: %s did not read the same twice.", folder,
			Count(r.Bad.Unsteady, "sector"))
	case gauge.Holds:
		return fmt.Sprintf("The free space of %s holds what is written: %s came back right.", folder, Bytes(r.Tested))
	}
	return GaugeSentence(folder, r, err)
}

// Removed says that files of a test were removed.
func (v *Screen) Removed(folder string, n int) {
	fmt.Fprintln(v.Out, good.Render(RemovedSentence(folder, n)))
}

// RemovedSentence is the answer of removing the files of a test.
func RemovedSentence(folder string, n int) string {
	return fmt.Sprintf("Removed %s of an earlier test from %s.", Count(n, "file"), word(folder))
}

// faultClause is what is bad, as a clause.
func faultClause(b gauge.Counts) string {
	var parts []string
	add := func(n int64, what string) {
		if n > 0 {
			parts = append(parts, Count(n, "sector")+" "+what)
		}
	}
	verb := func(n int64, one, many string) string {
		if n == 1 {
			return one
		}
		return many
	}
	add(b.Worn, verb(b.Worn, "has", "have")+" wrong bits ("+Count(b.Bits, "bit")+" in all)")
	add(b.Unreadable, "can't be read")
	add(b.Unwritable, "can't be written")
	add(b.Lost, verb(b.Lost, "does", "do")+" not keep what is written")
	if len(parts) > 1 {
		parts[len(parts)-1] = "and " + parts[len(parts)-1]
	}
	return strings.Join(parts, ", ")
}

// gaugeFacts are the facts of a test. ruler is the picture of the card; it may be empty.
func gaugeFacts(a *answer, doc receipt.Document, ruler []string) {
	g := doc.Gauge
	name := doc.Card.Name
	switch {
	case g.Method == string(gauge.BySpace):
		name = fmt.Sprintf("%s, %s", doc.Card.Name, cardKind(doc.Card))
	case doc.Card.Kind != "":
		name = fmt.Sprintf("%s, claims %s, %s", doc.Card.Name, exact(g.Claimed), cardKind(doc.Card))
	}
	a.add("card", "%s", name)
	if l := g.Loss; l != nil && l.Exact {
		a.add("holds", "%s", exact(g.Holds))
		how := lostReads(l.ReadsAs)
		if l.Repeats {
			how = "addresses repeat every " + exact(l.Real)
		} else if how != "" {
			how = "it reads as " + how
		}
		a.add("beyond", "%s", how)
		if l.Cached > 0 {
			a.add("memory", "for at least %s it answered from its own memory", Bytes(l.Cached))
		}
	}
	a.add("", "%s", strings.Join(ruler, "\n"))
	a.add("extents", "%s", strings.Join(extentLines(g), "\n"))
	if g.Level > 0 {
		a.add("confidence", "%s", confidenceFact(g))
	}
	if g.Displaced > 0 && g.Displaced < gauge.Displaced {
		a.add(
			"limits",
			"only %s more could be written before they were read, so a card that answers for more than that from a "+
				"memory of its own could hide a loss", Bytes(g.Displaced),
		)
	}
	gaugePhases(a, doc)
	if doc.Job == receipt.JobWhole {
		a.add("time", "%s", tookFact(doc))
	}
	if s := g.Slowest; s != nil && g.Loss == nil { // what a counterfeit promises of its speed is worth nothing
		a.add("slowest", "%s at %s", rateText(s.Rate), Bytes(s.At))
		a.add("marks met", "%s", strings.Join(g.Meets, ", "))
	}
	a.add("reads", "%s", accessFact(g.Reads, g.Method))
	a.add("writes", "%s", accessFact(g.Writes, g.Method))
	if doc.Card.Access == string(card.Cached) {
		a.add("caution", "this system can't bypass its own memory for this file, so the test says little of the card")
	}
	a.add("forgiven", "%s", mishapsFact(doc.Mishaps))
}

// confidenceFact says what it means that all places were right.
func confidenceFact(g *receipt.Gauge) string {
	return fmt.Sprintf("%s were right: a card that lacks more than %.1f %% of its size would have been found in %.0f "+
		"of 100 tests",
		Count(g.Places, "place"), 100*(1-g.Share), 100*g.Level)
}

// gaugePhases are how long the parts of the test took. Those of spots move too little for a rate to mean anything.
func gaugePhases(a *answer, doc receipt.Document) {
	var times []string
	for _, p := range doc.Phases {
		took := time.Duration(p.Seconds * float64(time.Second))
		moved := p.Bytes > 0 && doc.Gauge.Method != string(gauge.BySpots)
		switch {
		case moved:
			a.add(p.Phase, "%s in %s, %s", Bytes(p.Bytes), span(took), rate(p.Bytes, took))
		case took >= time.Second/20 && (doc.Gauge.Method == string(gauge.BySpots) || took >= time.Second):
			times = append(times, p.Phase+" "+span(took))
		}
	}
	a.add("took", "%s", strings.Join(times, ", "))
}

// mishapsFact lists what was forgiven.
func mishapsFact(all []receipt.Mishap) string {
	var lines []string
	for _, m := range all {
		if m.Op == "return" {
			lines = append(lines, "it was gone for a moment, then came back as "+m.Name)
		} else {
			lines = append(lines, fmt.Sprintf("failed %s to %s at byte %s", often(m.Times), m.Op, place(m.Offset)))
		}
	}
	return strings.Join(lines, "\n")
}

// often is a count of failures; that of older receipts isn't known.
func often(n int) string {
	switch n {
	case 0, 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

// rateText is a rate in bytes a second.
func rateText(r float64) string { return rate(int64(r), time.Second) }

// accessFact is how long single accesses took.
func accessFact(t receipt.Access, method string) string {
	if t.Count == 0 {
		return ""
	}
	where := "blocks"
	if method == string(gauge.BySpots) {
		where = "places"
	}
	return fmt.Sprintf("%s %s: median %s, 95 %% %s, 99 %% %s, worst %s at %s",
		humanize.Comma(t.Count), where, short(t.Median), short(t.P95), short(t.P99), short(t.Worst), Bytes(t.WorstAt))
}

// short is the time of an access, given in seconds.
func short(seconds float64) string {
	switch {
	case seconds < 0.00995:
		return fmt.Sprintf("%.2f ms", seconds*1e3)
	case seconds < 0.0995:
		return fmt.Sprintf("%.1f ms", seconds*1e3)
	case seconds < 0.995:
		return fmt.Sprintf("%.0f ms", seconds*1e3)
	}
	return span(time.Duration(seconds * float64(time.Second)))
}

// maxExtentLines is how many stretches are listed; the receipt has more.
const maxExtentLines = 12

// extentLines are the stretches of the card.
func extentLines(g *receipt.Gauge) (lines []string) {
	if len(g.Extents) < 2 {
		return nil
	}
	lines = append(lines, fmt.Sprintf("%17s  %9s", "from byte", "length"))
	for i, e := range g.Extents {
		if i == maxExtentLines {
			lines = append(lines, fmt.Sprintf("and %d more, in the receipt", g.Count-i))
			break
		}
		lines = append(lines, fmt.Sprintf("%17s  %9s  %s", place(e.Offset), Bytes(e.Length), e.State))
	}
	return lines
}

// gaugeNotes are what to know of a test, and what to do next.
func gaugeNotes(doc receipt.Document) (notes []string) {
	g := doc.Gauge
	note := func(format string, args ...any) { notes = append(notes, fmt.Sprintf(format, args...)) }
	switch gauge.Verdict(g.Verdict) {
	case gauge.Holds:
		if g.Method == string(gauge.BySpots) {
			note("A card that keeps what is written anywhere, until the room that it really has is used up, would " +
				"pass this test too. Only gauge whole can find that out.")
		}
		if g.Unkept > 0 {
			note("If nothing else was written to it meanwhile, it loses data when it is unplugged: test it again.")
		}
		if g.Tested < g.Claimed {
			note("The other %s were not tested.", Bytes(g.Claimed-g.Tested))
		}
	case gauge.Counterfeit:
		if g.Loss != nil && !g.Loss.Exact {
			note("Its addresses don't tell exactly how much it keeps.")
		}
		note("Give it back.")
	case gauge.Faulty:
		note("Data on it may be lost at any time. Replace it.")
	case gauge.Unsteady:
		note("That may be the card, the reader or the cable. Test it again in another reader; if it is the same " +
			"there, replace it.")
	case gauge.Inconclusive:
		switch {
		case g.Stuck != nil:
			note("Try it in another reader once; if it takes no writes there either, it is worn out: replace it.")
		case g.Limit > 0:
			note("Some readers can't address the upper part of a large card. Test it in another reader; if it is the " +
				"same there, the card is broken.")
		case g.Method == string(gauge.ByWhole):
			note("The test can be carried on: run the same command again.")
		}
	}
	if doc.Gauge.Changed > 0 && g.Loss == nil {
		note("%s did not read as before after what was there had been written back.", Count(g.Changed, "place"))
	}
	return notes
}

// Gauging shows a card before a test that leaves it as it was.
func (v *Screen) Gauging(c *card.Card) {
	if v.quiet {
		return
	}
	v.Say(fmt.Sprintf("Testing places all over %s (%s, %s). What is there is saved, and put back.", c.Name,
		Bytes(c.Size), kindFact(c)))
}

// Expectation says how long a test will take.
func Expectation(e whole.Expectation) string {
	return fmt.Sprintf("At %s, writing will take %s more, and reading everything back about %s. If the card holds "+
		"less than it claims, that shows soon after its real size.",
		rateText(e.Rate), span(e.Write), span(e.Read))
}

// Kept is a journal of a test that was interrupted, and what became of it.
type Kept struct {
	journal.Pending
	Path string // as it is shown
	Fate journal.Fate
	Err  error
}

// KeptSentence is the answer of putting back what interrupted tests had saved; only says that nothing was put back.
func KeptSentence(all []Kept, only bool) string {
	switch n := len(all); {
	case n == 0:
		return "There is nothing to put back."
	case only && n == 1:
		return "A test was interrupted, and what it had saved has not been put back yet:"
	case only:
		return fmt.Sprintf("%d tests were interrupted, and what they had saved has not been put back yet:", n)
	case !slices.ContainsFunc(all, func(k Kept) bool { return k.Err != nil }):
		return "What was done with the data saved by interrupted tests:"
	}
	return "Some of what was saved could not be put back:"
}

// RestoreDry says that nothing was put back.
const RestoreDry = "Nothing was written: this was a dry run."

// Kept lists journals; only says that nothing was put back, and again is the command line.
func (v *Screen) Kept(all []Kept, only bool, again []string) {
	a := &answer{style: good, sentence: KeptSentence(all, only)}
	switch {
	case only && len(all) > 0:
		a.style = caution
	case slices.ContainsFunc(all, func(k Kept) bool { return k.Err != nil }):
		a.style = bad
	}
	for _, k := range all {
		lines := []string{word(k.Path)}
		if k.Card.Size > 0 {
			lines = []string{
				fmt.Sprintf("%s, begun on %s, %s", Bytes(k.Card.Size), k.Started.Format("2006-01-02 15:04"),
					Bytes(k.Bytes())+" saved"), word(k.Path),
			}
		}
		if fate := FateText(k.Fate); fate != "" {
			lines = append(lines, fate)
		}
		if k.Err != nil {
			lines = append(lines, strings.TrimRight(ProblemSentence(k.Err), "."))
			if next := nextStep(k.Err, v.here, again); next != "" {
				lines = append(lines, "Next: "+word(next))
			}
		}
		a.add(cmp.Or(k.Card.Name, "?"), "%s", strings.Join(lines, "\n"))
	}
	a.print(v.Out, v.width)
}
