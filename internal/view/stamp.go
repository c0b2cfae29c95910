package view

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/gauge"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/shell"
	"zipstamp/internal/stamp"
)

// Documents shows the results of one job that was done with several cards: the fate of each. paths are where the
// receipts are kept.
func (v *Screen) Documents(all []receipt.Document, paths []string) {
	all, paths = slices.Clone(all), slices.Clone(paths)
	for i := range all {
		all[i], paths[i] = fitToShow(all[i]), word(paths[i])
	}
	a := &answer{style: good, sentence: StampsSentence(all)}
	shared := all[0]
	for _, doc := range all {
		if !isStamped(doc) {
			a.style = bad
		}
		if doc.Image.Unpacked > shared.Image.Unpacked || isStamped(doc) {
			shared = doc
		}
	}
	if shared.HasFiles() {
		a.add("files", "%s, %s, from %s", Count(shared.Blank.Files.Count, "file"), exact(shared.Blank.Files.Bytes),
			FileName(shared.Image.Path))
	} else {
		imageFacts(a, shared)
	}
	for i, doc := range all {
		a.add(doc.Card.Name, "%s", strings.Join(fateLines(doc, paths[i]), "\n"))
	}
	sharedNotes(a, all)
	a.print(v.Out, v.width)
}

// isStamped tells whether a stamp has left the image on the card.
func isStamped(doc receipt.Document) bool {
	return doc.Verdict == receipt.Good || doc.Verdict == receipt.NotReadBack ||
		doc.Verdict == receipt.Counterfeit && doc.Gauge == nil
}

// sharedNotes adds the notes of several cards, each once, with the names of the cards that it is about.
func sharedNotes(a *answer, all []receipt.Document) {
	var notes []string
	about := map[string][]string{}
	for _, doc := range all {
		one := &answer{}
		stampNotes(one, doc)
		for _, n := range one.notes {
			if about[n] == nil {
				notes = append(notes, n)
			}
			about[n] = append(about[n], doc.Card.Name)
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
func StampsSentence(all []receipt.Document) string {
	var failed []string
	readBack := true
	for _, doc := range all {
		if !isStamped(doc) {
			failed = append(failed, word(doc.Card.Name))
		}
		readBack = readBack && doc.Verdict != receipt.NotReadBack
	}
	did := "stamped"
	if len(all) > 0 && all[0].HasFiles() {
		did = "made"
	}
	done := did + " and read back"
	if !readBack {
		done = did + ", and not read back"
	}
	switch {
	case len(failed) == 0:
		return fmt.Sprintf("All %d cards are %s.", len(all), done)
	case len(failed) == len(all):
		return fmt.Sprintf("None of the %d cards is %s.", len(all), did)
	}
	verb := "is"
	if len(failed) > 1 {
		verb = "are"
	}
	return fmt.Sprintf("%d of %d cards are %s; %s %s not.", len(all)-len(failed), len(all), done,
		listed(failed, len(failed)), verb)
}

// fateLines are what became of one of several cards.
func fateLines(doc receipt.Document, path string) []string {
	var lines []string
	done := "stamped"
	if doc.HasFiles() {
		done = doc.Blank.FileSystem
	}
	if !isStamped(doc) {
		not := "not stamped: " + strings.TrimPrefix(doc.Sentence, notStamped)
		if doc.HasFiles() {
			not = doc.Sentence
		}
		lines = append(lines, strings.TrimRight(not, "."))
	} else {
		var rates []string
		for _, p := range doc.Phases {
			if p.Bytes > 0 && p.Phase != string(meter.Check) {
				rates = append(rates, fmt.Sprintf("%s at %s", p.Phase, rateText(p.Rate)))
			}
		}
		lines = append(lines, done+": "+strings.Join(rates, ", "))
	}
	for _, f := range []Fact{
		{"skipped", sparedFact(doc)},
		{"capacity", capacityFact(doc)},
		{"discarded", restFact(doc)},
		{"limits", memoryFact(doc)},
		{"unsteady", unsteadyFact(doc)},
		{"bad", extentsFact(doc.Bad)},
		{"forgiven", mishapsFact(doc.Mishaps)},
		{"repaired", extentsFact(doc.Repairs.Blocks)},
	} {
		if f.Text != "" {
			lines = append(lines, f.Label+": "+strings.ReplaceAll(f.Text, "\n", "; "))
		}
	}
	if text := letGoFact(doc); text != "" {
		lines = append(lines, text)
	}
	if path != "" {
		lines = append(lines, "receipt "+path)
	}
	return lines
}

// MishapSentence says what has just gone wrong, or right again.
func MishapSentence(name string, m card.Mishap) string {
	name = word(name)
	switch {
	case m.Waiting:
		return fmt.Sprintf("%s is gone (%s); waiting a moment for it to come back ...", name,
			word(cause(m.Err).Error()))
	case m.Op == "" && m.Name == name:
		return name + " is back; going on."
	case m.Op == "":
		return fmt.Sprintf("%s is back, as %s; going on.", name, word(m.Name))
	}
	return fmt.Sprintf("%s failed to %s at %s, and succeeded when tried again.", name, m.Op, Bytes(m.Offset))
}

// cause is what the system said.
func cause(err error) error {
	var gone *card.GoneError
	if errors.As(err, &gone) && gone.Err != nil {
		return gone.Err
	}
	return err
}

// notStamped begins the sentence of a stamp that failed.
const notStamped = "Not stamped: "

// StampSentence is the answer of a stamp in one sentence: how it ended, and what the card is now.
func StampSentence(imageName, cardName string, r stamp.Result, err error) string {
	imageName, cardName = word(imageName), word(cardName)
	if err == nil {
		if r.State == stamp.Complete {
			return fmt.Sprintf(
				"Stamped but not read back: %s was written to %s, and nothing shows that the card holds it.", imageName,
				cardName,
			)
		}
		if r.Written == 0 {
			return fmt.Sprintf("Nothing had to be written: every block of %s is on %s already, and was read back.",
				imageName, cardName)
		}
		sentence := fmt.Sprintf("Stamped and read back: every block of %s is on %s", imageName, cardName)
		if n := blocksIn(r.Repaired); n > 0 {
			sentence = fmt.Sprintf("%s, but %s had to be written again", sentence, Count(n, "block"))
		}
		switch {
		case r.Kept > 0 && r.Unseen > 0:
			return fmt.Sprintf("%s. %s of %s were written, and the rest was there; all was read back.", sentence,
				Bytes(r.Written), Bytes(r.Size))
		case r.Kept > 0:
			return fmt.Sprintf("%s. %s of %s differed and were written; all was read back.", sentence, Bytes(r.Written),
				Bytes(r.Size))
		}
		return sentence + "."
	}
	var fake *stamp.CounterfeitError
	if errors.As(err, &fake) {
		return fmt.Sprintf("%s is counterfeit: %s is on it and read back, but it holds about %s of the %s that it "+
			"claims.", cardName, imageName, Bytes(fake.Holds), Bytes(fake.Claimed))
	}
	return fmt.Sprintf(notStamped+"%s; %s.", failure(cardName, r, err), stateClause(r, err))
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
		return FileName(changed.Path) + " is no longer the file that was checked: it changed meanwhile"
	case errors.As(err, &readBack):
		return readBackClause(cardName, r, readBack)
	case errors.As(err, &damage):
		return damageClause(damage)
	case errors.As(err, &stuck):
		return fmt.Sprintf("from %s on, %s took no writes any more, as worn-out cards do", Bytes(stuck.Offset),
			cardName)
	case errors.As(err, &failed):
		return failedClause(cardName, failed)
	}
	return word(ErrorText(err))
}

func tooSmallClause(cardName string, e *stamp.TooSmallError) string {
	if e.AtLeast {
		return fmt.Sprintf("the image does not fit on %s: it is larger than %s", cardName, exact(e.Card))
	}
	return fmt.Sprintf("the image does not fit on %s: it has %s, and the card %s", cardName, exact(e.Image),
		exact(e.Card))
}

func readBackClause(cardName string, r stamp.Result, e *stamp.ReadBackError) string {
	switch {
	case r.Loss != nil && r.Loss.Holds == 0:
		return "nothing of the image could be read back from " + cardName + ": it holds much less than it claims"
	case r.Loss != nil && r.Loss.Wraps:
		return fmt.Sprintf(
			"%s does not hold what was written: its addresses repeat after about %s, so it holds less than it claims",
			cardName, Bytes(r.Loss.Holds),
		)
	case r.Loss != nil:
		return fmt.Sprintf(
			"%s does not hold what was written: all beyond about %s is lost, so it seems to hold less than it claims",
			cardName, Bytes(r.Loss.Holds),
		)
	case e.Blocks == 1:
		return fmt.Sprintf("a block of %s does not read back as it was written", cardName)
	}
	return fmt.Sprintf("%s of %s do not read back as they were written", Count(e.Blocks, "block"), cardName)
}

func damageClause(e *image.DamageError) string {
	name := FileName(e.Path)
	switch {
	case e.Truncated && e.Total.Bytes > e.At:
		return fmt.Sprintf("%s is cut short: %s, so the download was not complete", name, ofTotal(e))
	case e.Truncated && e.Unpacked == 0:
		return fmt.Sprintf("%s is cut short (it ends at byte %s), so the download was not complete", name, place(e.At))
	case e.Truncated:
		return fmt.Sprintf(
			"%s is cut short (it ends at byte %s, after %s of the image), so the download was not complete", name,
			place(e.At), Bytes(e.Unpacked),
		)
	}
	switch {
	case e.Trailing > 0:
		return fmt.Sprintf("%s ends at byte %s, and %v", name, place(e.At), e.Err)
	case e.Member != "":
		return fmt.Sprintf("%s is damaged in %s, near byte %s (%s)", name, word(e.Member), place(e.At),
			word(e.Err.Error()))
	}
	return fmt.Sprintf("%s is damaged near byte %s, after %s of the image (%s)", name, place(e.At), Bytes(e.Unpacked),
		word(e.Err.Error()))
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
	return fmt.Sprintf("%s is counterfeit: it holds %s of the %s that it claims, and the image needs %s", name,
		Bytes(e.Real), Bytes(e.Claimed), Bytes(e.Need))
}

// stateClause is what the card is like, as a clause.
func stateClause(r stamp.Result, err error) string {
	switch {
	case errors.As(err, new(*gauge.TooSmallError)):
		if r.State == stamp.Untouched {
			return "nothing of the image was written, and " + triedClause(r)
		}
		return "nothing of the image was written, but " + triedClause(r)
	case r.State == stamp.Untouched:
		return "nothing was written to the card"
	case r.State == stamp.Uncertain:
		return "the card may look as if it could start a board, and must not be used before it has been stamped again"
	case r.Loss != nil, errors.As(err, new(*card.StuckError)), errors.Is(err, fault.Locked):
		return "the card has no partition table"
	}
	return "the card has no partition table, and can be stamped again"
}

// triedClause says what became of what was on a card whose places were tried.
func triedClause(r stamp.Result) string {
	if r.State == stamp.Untouched {
		return "what is on the card is as it was"
	}
	return "some of what was on the card could not be put back; to try again: zipstamp gauge restore"
}

// minBeyond is how much of a card must lie behind the image to be worth a word, bytes.
const minBeyond = 8 << 20

// desktopKnows are the file systems that every desktop reads.
var desktopKnows = []layout.FSKind{
	layout.FAT12Kind, layout.FAT16Kind, layout.FAT32Kind, layout.ExFATKind, layout.NTFSKind, layout.ISOKind,
}

// nextNotes say what to do next with a card that has the image.
func nextNotes(a *answer, c receipt.Card, fake bool) {
	switch {
	case fake:
		a.note("Give it back. Most systems grow into the rest of the card when a board first starts from it, and " +
			"lose what they write beyond its real size.")
	case c.Beyond >= minBeyond:
		a.note(
			"%s of the card lie beyond the image; most systems grow into it when a board first starts from the card.",
			Bytes(c.Beyond),
		)
	}
	if len(c.FileSystems) > 0 && !slices.ContainsFunc(c.FileSystems, func(k layout.FSKind) bool {
		return slices.Contains(desktopKnows, k)
	}) {
		a.note("If a computer offers to format the card, decline: it just doesn't know the card's file systems.")
	}
}

// stampNotes are what to know of a stamp, and what to do next.
func stampNotes(a *answer, doc receipt.Document) {
	done := isStamped(doc)
	if done {
		nextNotes(a, doc.Card, doc.Verdict == receipt.Counterfeit)
	}
	switch {
	case done && doc.Unsteady != nil:
		a.note("This card changes what it has by itself, or holds less than it claims. Test it before use: %s",
			shell.Command("zipstamp", "gauge", "whole", doc.Card.Path))
	case done && doc.Repairs.Blocks.Count > 0:
		a.note("A card that needs repairs is wearing out, or its reader is at fault: replace the card before long.")
	case done && len(doc.Mishaps) > 0:
		a.note("An access that fails now and then is the cable's or the reader's fault more often than the card's.")
	case done:
	case doc.Loss != nil && doc.Loss.Holds == 0:
		a.note("Don't use this card: it is worn out, or counterfeit. If other cards fail in the same way, it is the " +
			"reader.")
	case doc.Loss != nil:
		a.note("Don't use this card. Cards that claim more than they hold are counterfeit; give it back to the seller.")
	case doc.Cause == receipt.CardFake:
		a.note("Give it back. To show the seller what it really holds: %s, then zipstamp receipts export FILE.html",
			shell.Command("zipstamp", "gauge", "spots", doc.Card.Path))
	case causeNotes[doc.Cause] != "":
		a.note("%s", causeNotes[doc.Cause])
	}
}

// causeNotes are what to do about what ended a stamp.
var causeNotes = map[receipt.Cause]string{
	receipt.CardDiffers:  "Try another reader or cable once; if blocks stay wrong, replace the card.",
	receipt.CardGone:     "Put the card in again, and run the command again.",
	receipt.ImageDamaged: "Download it again, and run the command again.",
	receipt.CardSmall:    "Use a larger card.",
	receipt.CardStuck:    "Try another reader once; if it takes no writes there either, replace the card.",
	receipt.CardLocked:   "Try another reader or cable once; if it fails again, replace the card.",
	receipt.CardFailed:   "Try another reader or cable once; if it fails again, replace the card.",
}
