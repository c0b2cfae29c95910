package view

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/check"
	"zipstamp/internal/gauge"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/shell"
	"zipstamp/internal/stamp"
)

// Stamped is a stamp that was begun, and how it ended.
type Stamped struct {
	Doc      receipt.Document
	Report   check.Report
	Result   stamp.Result
	Err      error
	Receipt  string // where it was kept; empty if it was not
	ReadBack bool   // asked for
	Left     card.Left
	Contents *layout.Disk // what is on the card now; nil where that isn't known
}

// Stamp shows the result of a stamp.
func (v *Screen) Stamp(s Stamped) {
	s.Doc, s.Receipt = fitToShow(s.Doc), word(s.Receipt)
	a := &answer{style: bad, sentence: s.Doc.Sentence}
	switch s.Doc.Verdict {
	case receipt.Good:
		a.style = good
	case receipt.NotReadBack, receipt.Interrupted:
		a.style = caution
	}
	stampFacts(a, s)
	stampNotes(a, s)
	a.print(v.Out, v.width)
}

// Stamps shows the result of a stamp of several cards: the fate of each.
func (v *Screen) Stamps(all []Stamped) {
	all = slices.Clone(all)
	for i := range all {
		all[i].Doc, all[i].Receipt = fitToShow(all[i].Doc), word(all[i].Receipt)
	}
	a := &answer{style: good, sentence: StampsSentence(all)}
	shared := all[0]
	for _, s := range all {
		if s.Err != nil {
			a.style = bad
		}
		if s.Doc.Image.Unpacked > shared.Doc.Image.Unpacked || s.Err == nil {
			shared = s
		}
	}
	if shared.Err != nil {
		shared.Doc.Image.Unpacked = 0
	}
	a.add("image", "%s", docImage(shared.Doc.Image))
	if shared.Err == nil {
		a.add("checked", "%s", checkedFact(shared.Report))
	}
	for _, s := range all {
		a.add(s.Doc.Card.Name, "%s", strings.Join(fateLines(s), "\n"))
	}
	sharedNotes(a, all)
	a.print(v.Out, v.width)
}

// sharedNotes adds the notes of several cards, each once, with the names of the cards that it is about.
func sharedNotes(a *answer, all []Stamped) {
	var notes []string
	about := map[string][]string{}
	for _, s := range all {
		one := &answer{}
		stampNotes(one, s)
		for _, n := range one.notes {
			if about[n] == nil {
				notes = append(notes, n)
			}
			about[n] = append(about[n], s.Doc.Card.Name)
		}
	}
	for _, n := range notes {
		if len(about[n]) < len(all) {
			n = listed(about[n], len(all)) + ": " + n
		}
		a.note("%s", n)
	}
}

// StampsSentence is the answer of a stamp of several cards.
func StampsSentence(all []Stamped) string {
	var failed []string
	readBack := true
	for _, s := range all {
		if s.Err != nil {
			failed = append(failed, s.Doc.Card.Name)
		}
		readBack = readBack && s.ReadBack
	}
	done := "stamped and read back"
	if !readBack {
		done = "stamped, and not read back"
	}
	switch {
	case len(failed) == 0:
		return fmt.Sprintf("All %d cards are %s.", len(all), done)
	case len(failed) == len(all):
		return fmt.Sprintf("None of the %d cards is stamped.", len(all))
	}
	verb := "is"
	if len(failed) > 1 {
		verb = "are"
	}
	return fmt.Sprintf("%d of %d cards are %s; %s %s not.", len(all)-len(failed), len(all), done, listed(failed, len(failed)), verb)
}

// fateLines are what became of one of several cards.
func fateLines(s Stamped) []string {
	var lines []string
	if s.Err != nil {
		lines = append(lines, "not stamped: "+failure(s.Doc.Card.Name, s.Result, s.Err)+"; "+stateClause(s.Result, s.Err))
	} else {
		var rates []string
		for _, p := range s.Result.Phases {
			if p.Bytes > 0 {
				rates = append(rates, fmt.Sprintf("%s at %s", p.Phase, rate(p.Bytes, p.Took)))
			}
		}
		lines = append(lines, "stamped: "+strings.Join(rates, ", "))
	}
	for _, f := range []Fact{{"limits", memoryFact(s.Doc)}, {"bad", extentsFact(s.Result.Bad)}, {"forgiven", mishapsFact(s.Doc.Mishaps)}, {"repaired", extentsFact(s.Result.Repaired)}} {
		if f.Text != "" {
			lines = append(lines, f.Label+": "+strings.ReplaceAll(f.Text, "\n", "; "))
		}
	}
	if text := leftFact(s); text != "" {
		lines = append(lines, text)
	}
	if s.Receipt != "" {
		lines = append(lines, "receipt "+s.Receipt)
	}
	return lines
}

// MishapSentence says what has just gone wrong, or right again.
func MishapSentence(name string, m card.Mishap) string {
	name = word(name)
	switch {
	case m.Waiting:
		return fmt.Sprintf("%s is gone (%s); waiting a moment for it to come back ...", name, word(cause(m.Err).Error()))
	case m.Op == "" && m.Name == name:
		return name + " is back; going on."
	case m.Op == "":
		return fmt.Sprintf("%s is back, as %s; going on.", name, word(m.Name))
	}
	return fmt.Sprintf("%s failed to %s at %s, and did it when asked again.", name, m.Op, Bytes(m.Offset))
}

// cause is what the system said.
func cause(err error) error {
	var gone *card.GoneError
	if errors.As(err, &gone) && gone.Err != nil {
		return gone.Err
	}
	return err
}

// leftFact is how the card was let go.
func leftFact(s Stamped) string {
	switch {
	case s.Left.Problem != nil:
		return word(s.Left.Problem.Error())
	case s.Left.PoweredOff:
		return "powered off; it can be taken out"
	case s.Left.Ejected:
		return "ejected; it can be taken out"
	case s.Err == nil && s.Doc.Card.Bus == string(disks.SDSlot):
		return "it can be taken out, once nothing of it is mounted"
	}
	return ""
}

// StampSentence is the answer of a stamp in one sentence: how it ended, and what the card is now.
func StampSentence(imageName, cardName string, r stamp.Result, err error) string {
	imageName, cardName = word(imageName), word(cardName)
	if err == nil {
		if r.State == stamp.Complete {
			return fmt.Sprintf("Stamped but not read back: %s was written to %s, and nothing shows that the card holds it.", imageName, cardName)
		}
		sentence := fmt.Sprintf("Stamped and read back: every block of %s is on %s", imageName, cardName)
		if n := blocksIn(r.Repaired); n > 0 {
			return fmt.Sprintf("%s, but %s had to be written again.", sentence, count(n, "block"))
		}
		return sentence + "."
	}
	return fmt.Sprintf("Not stamped: %s; %s.", failure(cardName, r, err), stateClause(r, err))
}

// failure is why a stamp failed, as a clause.
func failure(cardName string, r stamp.Result, err error) string {
	var tooSmall *stamp.TooSmallError
	var fake *gauge.TooSmallError
	var damage *image.DamageError
	var changed *stamp.ChangedError
	var readBack *stamp.ReadBackError
	var failed *card.IOError
	var stuck *card.StuckError
	switch {
	case errors.Is(err, ErrInterrupted):
		return "it was interrupted"
	case errors.As(err, &tooSmall):
		return tooSmallClause(cardName, tooSmall)
	case errors.As(err, &fake):
		return tooFakeClause(cardName, fake)
	case errors.As(err, new(*card.GoneError)):
		return fmt.Sprintf("%s was pulled out, or its reader was", cardName)
	case errors.As(err, &changed):
		return FileName(changed.Path) + " is not the file any more that was checked: it changed meanwhile"
	case errors.As(err, &readBack):
		return readBackClause(cardName, r, readBack)
	case errors.As(err, &damage):
		return damageClause(damage)
	case errors.As(err, &stuck):
		return fmt.Sprintf("from %s on, %s took no writes any more, as worn-out cards do", Bytes(stuck.Offset), cardName)
	case errors.As(err, &failed):
		return failedClause(cardName, failed)
	}
	return word(err.Error())
}

func tooSmallClause(cardName string, e *stamp.TooSmallError) string {
	if e.AtLeast {
		return fmt.Sprintf("the image does not fit on %s: it is larger than %s", cardName, exact(e.Card))
	}
	return fmt.Sprintf("the image does not fit on %s: it has %s, and the card %s", cardName, exact(e.Image), exact(e.Card))
}

func readBackClause(cardName string, r stamp.Result, e *stamp.ReadBackError) string {
	switch {
	case r.Loss != nil && r.Loss.Holds == 0:
		return cardName + " keeps nothing of what is written to it"
	case r.Loss != nil && r.Loss.Wraps:
		return fmt.Sprintf("%s does not hold what was written: its addresses repeat after about %s, so it holds less than it claims", cardName, Bytes(r.Loss.Holds))
	case r.Loss != nil:
		return fmt.Sprintf("%s does not hold what was written: all beyond about %s is lost, so it seems to hold less than it claims", cardName, Bytes(r.Loss.Holds))
	case e.Blocks == 1:
		return fmt.Sprintf("a block of %s does not read back as it was written", cardName)
	}
	return fmt.Sprintf("%s of %s do not read back as they were written", count(e.Blocks, "block"), cardName)
}

func damageClause(e *image.DamageError) string {
	name := FileName(e.Path)
	switch {
	case e.Truncated && e.Total.Bytes > e.At:
		return fmt.Sprintf("%s is cut short: %s, so the download was not complete", name, ofTotal(e))
	case e.Truncated && e.Unpacked == 0:
		return fmt.Sprintf("%s is cut short (it ends at byte %s), so the download was not complete", name, place(e.At))
	case e.Truncated:
		return fmt.Sprintf("%s is cut short (it ends at byte %s, after %s of the image), so the download was not complete", name, place(e.At), Bytes(e.Unpacked))
	}
	if e.Trailing > 0 {
		return fmt.Sprintf("%s ends at byte %s, and %v", name, place(e.At), e.Err)
	}
	return fmt.Sprintf("%s is damaged near byte %s, after %s of the image (%s)", name, place(e.At), Bytes(e.Unpacked), word(e.Err.Error()))
}

// ofTotal says how much is there of how much.
func ofTotal(e *image.DamageError) string {
	if e.Total.Certainty == image.Exact {
		return fmt.Sprintf("it has %s of %s", Bytes(e.At), Bytes(e.Total.Bytes))
	}
	return fmt.Sprintf("it has %s of at least %s", Bytes(e.At), Bytes(e.Total.Bytes))
}

func failedClause(cardName string, e *card.IOError) string {
	switch {
	case errors.Is(e, fault.Locked):
		return fmt.Sprintf("%s became write-protected at %s, as worn-out cards do", cardName, Bytes(e.Offset))
	case errors.Is(e, fault.Full):
		return "the disk that holds the card's file is full"
	case e.Op == "flush":
		return fmt.Sprintf("%s failed to keep what was written (%v)", cardName, e.Err)
	}
	return fmt.Sprintf("%s failed to %s at %s (%v)", cardName, e.Op, Bytes(e.Offset), e.Err)
}

// tooFakeClause is about a card that was found to hold less than an image needs.
func tooFakeClause(name string, e *gauge.TooSmallError) string {
	if e.Anywhere || !e.Exact || e.Holds() == 0 {
		return fakeClause(name, e.Loss, e.Claimed)
	}
	return fmt.Sprintf("%s is counterfeit: it holds %s of the %s that it claims, and the image needs %s", name, Bytes(e.Real), Bytes(e.Claimed), Bytes(e.Need))
}

// stateClause is what the card is like, as a clause.
func stateClause(r stamp.Result, err error) string {
	tried := errors.As(err, new(*gauge.TooSmallError))
	switch {
	case tried && r.State == stamp.Untouched:
		return "nothing of the image was written, and what is on the card is as it was"
	case tried:
		return "nothing of the image was written, but not all that was on the card is seen to be back: put it back with: zipstamp gauge restore"
	case r.State == stamp.Untouched:
		return "nothing was written to the card"
	case r.State == stamp.Uncertain:
		return "the card may look as if it could start a board, and must not be used before it has been stamped again"
	case r.Loss != nil, errors.As(err, new(*card.StuckError)), errors.Is(err, fault.Locked):
		return "the card has no partition table"
	}
	return "the card has no partition table, and can be stamped again"
}

func stampFacts(a *answer, s Stamped) {
	doc := s.Doc
	if s.Err != nil {
		doc.Image.Unpacked = 0 // as far as it came, which is no size of an image
	}
	a.add("image", "%s", docImage(doc.Image))
	if s.Err == nil {
		a.add("checked", "%s", checkedFact(s.Report))
	}
	a.add("card", "%s, %s, %s", doc.Card.Name, exact(doc.Card.Size), cardKind(doc.Card))
	for _, p := range s.Result.Phases {
		text := fmt.Sprintf("in %s", span(p.Took))
		if p.Bytes > 0 {
			text = fmt.Sprintf("%s in %s, %s", Bytes(p.Bytes), span(p.Took), rate(p.Bytes, p.Took))
		}
		if p.Phase == "flush" && p.Took.Seconds() < 0.05 {
			continue
		}
		a.add(string(p.Phase), "%s", text)
	}
	if doc.Spots != nil && !doc.Spots.Done && s.Err == nil {
		a.add("spots", "not tried first: %s", doc.Spots.Why)
	}
	if doc.Card.Access == string(card.Cached) && s.ReadBack {
		a.add("caution", "this system can't read round its own memory for this file, so the read-back says little of the card")
	}
	a.add("limits", "%s", memoryFact(doc))
	a.add("repaired", "%s", extentsFact(s.Result.Repaired))
	a.add("bad", "%s", extentsFact(s.Result.Bad))
	a.add("forgiven", "%s", mishapsFact(s.Doc.Mishaps))
	a.add("let go", "%s", leftFact(s))
	if doc.Bytes.Cleared > 0 {
		a.add("cleared", "an old backup partition table at the card's end (%s)", exact(doc.Bytes.Cleared))
	}
	a.add("receipt", "%s", s.Receipt)
}

// memoryFact says which cards' memories a stamp could not see through, where it could less than usual.
func memoryFact(doc receipt.Document) string {
	if doc.Verdict != receipt.Good || doc.Bytes.Displaced == nil || *doc.Bytes.Displaced >= stamp.Displaced {
		return ""
	}
	return fmt.Sprintf("only %s more could be written before the read-back, so a card that answers for more than that from a memory of its own could hide a loss", Bytes(*doc.Bytes.Displaced))
}

func docImage(i receipt.Image) string {
	fact := FileName(i.Path)
	if i.Member != "" {
		fact = word(i.Member) + " in " + fact
	}
	if i.Unpacked > 0 {
		fact += ", " + exact(i.Unpacked)
	}
	return fact
}

func cardKind(c receipt.Card) string {
	kind := string(c.Kind)
	switch {
	case c.Bus == string(disks.Loop) && c.Model != "":
		return word(c.Model)
	case c.Bus != "":
		kind = c.Bus
	}
	if c.Model != "" {
		return kind + ", " + word(c.Model)
	}
	return kind
}

func checkedFact(r check.Report) string {
	by := r.SignedBy()
	if len(r.Published) == 0 && by == nil {
		return "nothing was published to hold it against"
	}
	var facts []string
	if by != nil {
		facts = append(facts, fmt.Sprintf("signed by %s (%s)", signer(by), word(by.Key.Owner)))
	}
	for _, h := range r.Published {
		source := "as given"
		if h.Sums != nil {
			source = "as published in " + word(h.Source())
		}
		facts = append(facts, fmt.Sprintf("%s, %s", h.Algorithm, source))
	}
	return strings.Join(facts, "\n")
}

// shownExtents is how many are listed; the receipt has more.
const shownExtents = 6

// extentsFact lists stretches of the card by offset.
func extentsFact(extents []layout.Extent) string {
	var lines []string
	for i, e := range extents {
		if i == shownExtents {
			lines = append(lines, fmt.Sprintf("and %d more stretches", len(extents)-i))
			break
		}
		lines = append(lines, fmt.Sprintf("%s at byte %s", count(blocksIn(extents[i:i+1]), "block"), place(e.Offset)))
	}
	return strings.Join(lines, "\n")
}

// blocksIn counts the blocks of extents.
func blocksIn(extents []layout.Extent) int64 {
	var n int64
	for _, e := range extents {
		n += (e.Length + stamp.BlockSize - 1) / stamp.BlockSize
	}
	return n
}

// minBeyond is how much of a card must lie behind the image to be worth a word, bytes.
const minBeyond = 8 << 20

// desktopKnows are the file systems that every desktop reads.
var desktopKnows = []layout.FSKind{
	layout.FAT12Kind, layout.FAT16Kind, layout.FAT32Kind, layout.ExFATKind, layout.NTFSKind, layout.ISOKind,
}

// nextNotes say what to do next with a card that is good.
func nextNotes(a *answer, s Stamped) {
	if s.Doc.Card.Beyond >= minBeyond {
		a.note("%s of the card lie beyond the image; most systems grow into it when a board first starts from the card.", Bytes(s.Doc.Card.Beyond))
	}
	if s.Contents == nil {
		return
	}
	knows := slices.Contains(desktopKnows, s.Contents.Whole.Kind)
	for _, p := range s.Contents.Parts {
		knows = knows || slices.Contains(desktopKnows, p.Kind)
	}
	if !knows {
		a.note("If a computer offers to format the card, decline: it only doesn't know the card's file systems.")
	}
}

func stampNotes(a *answer, s Stamped) {
	if s.Err == nil {
		nextNotes(a, s)
	}
	switch {
	case s.Err == nil && len(s.Result.Mishaps) > 0 && len(s.Result.Repaired) == 0:
		a.note("An access that fails now and then is the cable's or the reader's fault more often than the card's.")
	case s.Err == nil && len(s.Result.Repaired) > 0:
		a.note("A card that needs repairs is wearing out, or its reader is at fault: replace the card before long.")
	case s.Result.Loss != nil && s.Result.Loss.Holds == 0:
		a.note("Don't use this card: it is worn out, or counterfeit. If other cards fail in the same way, it is the reader.")
	case s.Result.Loss != nil:
		a.note("Don't use this card. Cards that claim more than they hold are counterfeit; give it back to the seller.")
	case errors.As(s.Err, new(*gauge.TooSmallError)):
		a.note("Give it back. %s makes a receipt of what it really holds, and zipstamp receipts export FILE.html a page of that to show to the seller.", shell.Command("zipstamp", "gauge", "spots", s.Doc.Card.Path))
	case errors.As(s.Err, new(*stamp.ReadBackError)):
		a.note("Try another reader or cable once; if blocks stay wrong, replace the card.")
	case errors.As(s.Err, new(*card.GoneError)):
		a.note("Put the card in again, and run the command again.")
	case errors.As(s.Err, new(*image.DamageError)):
		a.note("Download the image again, and run the command again.")
	case errors.As(s.Err, new(*stamp.TooSmallError)):
		a.note("Use a larger card.")
	case errors.As(s.Err, new(*card.StuckError)):
		a.note("Try another reader once; if it takes no writes there either, replace the card.")
	case errors.As(s.Err, new(*card.IOError)):
		a.note("Try another reader or cable once; if it fails again, replace the card.")
	}
}
