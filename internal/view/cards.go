package view

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/register"
	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
)

// Listed is a disk with all that is told of it.
type Listed struct {
	Card                 *card.Card
	Reasons              []guard.Reason        // why it may not be written; none if it may
	Contents             *layout.Disk          // what is on it; nil where that could not be read
	Census               map[int]layout.Census // how much is in its file systems, by the number of the partition
	Last                 *receipt.Document     // of the last stamp onto it; nil if none is known
	Tested               *receipt.Document     // of the last test of it; likewise
	LastLike, TestedLike card.Likeness         // whether these are of this very card
	OwnName              string                // that a person has given to it; empty if none has
	Remarks              []register.Remark     // what is implausible about its registers
	Unfinished           *stamp.Mark           // its last stamp did not come to its end; nil: nothing says so
}

// IsCard tells whether the disk is shown among the cards: it may be written, or is only write-protected.
func (l Listed) IsCard() bool {
	return !slices.ContainsFunc(l.Reasons, func(r guard.Reason) bool { return !guard.IsProtected(r) })
}

// ListedPart is a partition, or the file system of a whole disk (number 0).
type ListedPart struct {
	Number      int
	Path, Label string
	Kind        layout.FSKind
	Size        int64
}

// Parts are the partitions as they stand on the disk, or, where that could not be read, as the system knows them.
func (l Listed) Parts() (all []ListedPart) {
	d := l.Card.Disk
	if d == nil {
		d = &disks.Disk{Path: l.Card.Path, Size: l.Card.Size}
	}
	if l.Contents != nil {
		if w := l.Contents.Whole; w.Kind != "" {
			all = append(all, ListedPart{0, d.Path, w.Label, w.Kind, d.Size})
		}
		for _, p := range l.Contents.Parts {
			path := ""
			for _, known := range d.Parts {
				if known.Index == p.Number {
					path = known.Path
				}
			}
			all = append(all, ListedPart{p.Number, path, p.Label, p.Kind, p.Length})
		}
		return all
	}
	if d.FS.Kind != "" {
		all = append(all, ListedPart{0, d.Path, d.FS.Label, d.FS.Kind, d.Size})
	}
	for _, p := range d.Parts {
		all = append(all, ListedPart{p.Index, p.Path, p.FS.Label, p.FS.Kind, p.Size})
	}
	return all
}

// Cards shows the cards, and with all the other disks too.
func (v *Screen) Cards(listed []Listed, all bool) {
	var cards, others []Listed
	for _, l := range listed {
		if l.IsCard() {
			cards = append(cards, l)
		} else {
			others = append(others, l)
		}
	}
	a := &answer{style: strong, sentence: cardsSentence(cards)}
	for _, l := range cards {
		a.add(l.Card.Path, "%s", strings.Join(cardLines(l), "\n"))
	}
	if len(cards) == 0 {
		a.note("Put a card in and look again, or wait for it: zipstamp cards --arrive")
	}
	a.print(v.Out, v.width)
	if !all {
		return
	}
	b := &answer{style: strong, sentence: "There are no other disks."}
	if len(others) > 0 {
		b.sentence = "The other disks, and why they can't be chosen:"
	}
	for _, l := range others {
		b.add(l.Card.Path, "%s", strings.Join(otherLines(l), "\n"))
	}
	fmt.Fprintln(v.Out)
	b.print(v.Out, v.width)
}

// CardsSentence is the answer of a list of disks: how many of them are cards that can be written.
func CardsSentence(listed []Listed) string {
	return cardsSentence(slices.DeleteFunc(slices.Clone(listed), func(l Listed) bool { return !l.IsCard() }))
}

func cardsSentence(cards []Listed) string {
	may := 0
	for _, l := range cards {
		if len(l.Reasons) == 0 {
			may++
		}
	}
	switch locked := len(cards) - may; {
	case len(cards) == 0:
		return "No writable card found."
	case locked == 0:
		return fmt.Sprintf("Found %s.", Count(may, "writable card"))
	case may == 0:
		return fmt.Sprintf("Found no writable card, but %s that %s write-protected.", Count(locked, "card"),
			map[bool]string{true: "is", false: "are"}[locked == 1])
	default:
		return fmt.Sprintf("Found %s; %s write-protected.", Count(may, "writable card"),
			map[bool]string{true: "another one is", false: fmt.Sprintf("%d more are", locked)}[locked == 1])
	}
}

// cardLines describes a card.
func cardLines(l Listed) []string {
	lines := []string{cardTitle(l.Card)}
	if l.OwnName != "" {
		lines = append(lines, "called "+word(l.OwnName))
	}
	if reg := registersLine(l.Card.Disk); reg != "" {
		lines = append(lines, reg)
	}
	for _, r := range Remarks(l.Remarks) {
		lines = append(lines, "odd: "+word(r))
	}
	if l.Card.ReadOnly {
		lines = append(lines, "write-protected, by the lock on its side or by itself")
	}
	if l.Card.Size > guard.MaxCard {
		lines = append(lines, "odd: it claims more than any card holds")
	}
	lines = append(lines, holdsLine(l))
	lines = append(lines, useLines(l.Card)...)
	if l.Last != nil {
		lines = append(lines, lastLine(l))
	}
	if l.Tested != nil {
		lines = append(lines, testedLine(l.Tested, l.TestedLike))
	}
	return lines
}

// lastLine is what the card was stamped with.
func lastLine(l Listed) string {
	did := "stamped with"
	if l.Last.HasFiles() {
		did = "made with the files of"
	}
	line := fmt.Sprintf("last %s %s, on %s", did, FileName(l.Last.Image.Path), Day(l.Last.Ended))
	if l.LastLike == card.MayBe {
		line += "; or another card of this size was, with the same partition table"
	}
	return line
}

// testedLine is what the last test of a card found.
func testedLine(doc *receipt.Document, like card.Likeness) string {
	line := fmt.Sprintf("tested on %s: %s", Day(doc.Ended), word(Finding(*doc)))
	if l := doc.Gauge.Loss; l != nil && l.Exact {
		line += ", holds " + Bytes(doc.Gauge.Holds)
	}
	if like == card.MayBe {
		line += "; or another card of this size was, in such a reader"
	}
	return line
}

// Finding is the verdict of a receipt in a few words, with what it rests on: never more than was tested.
func Finding(doc receipt.Document) string {
	g := doc.Gauge
	if g == nil || doc.Verdict != receipt.Verdict(g.Verdict) {
		return string(doc.Verdict)
	}
	part := g.Tested > 0 && g.Tested < g.Claimed && g.Method != string(gauge.BySpace)
	switch {
	case gauge.Verdict(g.Verdict) == gauge.Holds && g.Method == string(gauge.BySpace):
		return "free space good"
	case gauge.Verdict(g.Verdict) == gauge.Holds && g.Method == string(gauge.BySpots) && part:
		return fmt.Sprintf("no sign of a counterfeit in %s of the first %s", Count(int64(g.Tried), "place"),
			Bytes(g.Tested))
	case gauge.Verdict(g.Verdict) == gauge.Holds && g.Method == string(gauge.BySpots):
		return "no sign of a counterfeit in " + Count(int64(g.Tried), "place")
	case gauge.Verdict(g.Verdict) == gauge.Holds && part:
		return fmt.Sprintf("first %s good", Bytes(g.Tested))
	case part && g.Loss == nil:
		return fmt.Sprintf("%s, in the first %s", g.Verdict, Bytes(g.Tested))
	}
	return g.Verdict
}

// Day is a time for people.
func Day(t time.Time) string { return t.Local().Format("2 January 2006, 15:04") }

// cardTitle is a disk's size, bus and names.
func cardTitle(c *card.Card) string {
	d := c.Disk
	text := "empty"
	if c.Size > 0 {
		text = exact(c.Size)
	}
	text += ", " + word(string(d.Bus))
	if title := word(d.Title()); title != "" && d.Bus != disks.Loop {
		text += ", " + title
	} else if title != "" {
		text = exact(c.Size) + ", " + title
	}
	if d.Slots > 1 {
		text += fmt.Sprintf(", slot %d of %d", d.Slot, d.Slots)
		if d.USB.Name != "" {
			text += " of " + word(d.USB.Name)
		}
	}
	if d.Serial != "" {
		text += ", serial " + word(d.Serial)
	}
	return text
}

// registersLine is what an SD card's registers tell.
func registersLine(d *disks.Disk) string {
	if d.SD == nil {
		return ""
	}
	var facts []string
	if made := d.SD.CID.Made(); made != "" {
		facts = append(facts, "made in "+made)
	}
	facts = append(facts, fmt.Sprintf("maker 0x%02x %s, revision %s", d.SD.CID.Maker, word(d.SD.CID.OEM),
		word(d.SD.CID.Revision)))
	if d.SD.CSD.Family != "" {
		facts = append(facts, word(d.SD.CSD.Family))
	}
	if d.SD.Spec != "" {
		facts = append(facts, "SD "+word(d.SD.Spec))
	}
	if len(d.SD.Marks) > 0 {
		facts = append(facts, strings.Join(words(d.SD.Marks), " "))
	}
	return strings.Join(facts, ", ")
}

// holdsLine is what is on a card.
func holdsLine(l Listed) string {
	var scheme layout.Scheme
	if l.Card.Disk != nil {
		scheme = l.Card.Disk.Scheme
	}
	if l.Contents != nil {
		switch l.Contents.Kind {
		case layout.KindBlank:
			return "holds nothing: it starts with zeros"
		case layout.KindUnknown:
			return "holds no known partition table or file system"
		}
		scheme = l.Contents.Table.Scheme
	}
	parts := l.Parts()
	if l.Contents == nil && l.Card.Disk == nil {
		return ""
	}
	if l.Contents == nil && l.Card.Disk.FS.Kind == "" && scheme == "" {
		return "its contents can't be read without permission"
	}
	var texts []string
	for _, p := range parts {
		text := ""
		if p.Number > 0 {
			text = fmt.Sprintf("%d: ", p.Number)
		}
		text += fsName(p.Kind)
		if p.Label != "" {
			text += " " + word(p.Label)
		}
		if p.Number > 0 {
			text += " (" + Bytes(p.Size) + ")"
		}
		if c, ok := l.Census[p.Number]; ok {
			text += censusText(c)
		}
		texts = append(texts, text)
	}
	switch {
	case len(texts) == 0:
		return "holds an empty partition table (" + word(string(scheme)) + ")"
	case parts[0].Number == 0:
		return "holds " + strings.Join(texts, "; ")
	}
	return fmt.Sprintf("holds, by its %s, %s", word(string(scheme)), strings.Join(texts, "; "))
}

// censusText is how much is in a file system.
func censusText(c layout.Census) string {
	text := ", empty"
	switch {
	case c.Files > 0 && c.About:
		text = fmt.Sprintf(" with about %s and folders", Count(c.Files, "file"))
	case c.Files > 0:
		text = " with " + Count(c.Files, "file")
	}
	if !c.Newest.IsZero() && c.Files > 0 {
		text += ", the last of " + c.Newest.Format("2 January 2006")
	}
	return text
}

func fsName(kind layout.FSKind) string {
	if kind == "" {
		return "no known file system"
	}
	return word(string(kind))
}

// useLines are what of a card is in use.
func useLines(c *card.Card) (lines []string) {
	mounts, swaps := c.InUse()
	for _, m := range slices.Backward(mounts) {
		if strings.TrimSuffix(m.Point, `\`) == m.Name { // Windows has drive letters
			lines = append(lines, "mounted as "+word(m.Name))
			continue
		}
		lines = append(lines, fmt.Sprintf("%s is mounted at %s", word(m.Name), word(m.Point)))
	}
	for _, s := range swaps {
		lines = append(lines, word(s.Path)+" is in use as swap")
	}
	return lines
}

func otherLines(l Listed) []string {
	lines := []string{cardTitle(l.Card)}
	for _, r := range l.Reasons {
		lines = append(lines, word(Reason(r)))
	}
	return lines
}

// Waiting says that cards are waited for.
func (v *Screen) Waiting(n int) {
	if n == 1 {
		v.Say("Put the card in now; one that is in already can be pulled out and put in again. Ctrl-C stops.")
		return
	}
	v.Say(fmt.Sprintf("Put %d cards in now, one after the other; those that are in already can be pulled out and put "+
		"in again. Ctrl-C stops.", n))
}

// Arrived says that a card was put in.
func (v *Screen) Arrived(l Listed) {
	if len(l.Reasons) == 0 {
		v.Say(fmt.Sprintf("%s was put in: %s.", l.Card.Name, cardTitle(l.Card)))
		return
	}
	v.Say(fmt.Sprintf("%s was put in, and can't be chosen: %s.", l.Card.Name, word(Reason(l.Reasons[0]))))
}

// Left says that a card was taken out.
func (v *Screen) Left(c *card.Card) { v.Say(fmt.Sprintf("%s was taken out.", c.Name)) }

// Choose has a person choose one of several cards; -1 is none.
func (v *Screen) Choose(ctx context.Context, listed []Listed) (int, error) {
	a := &answer{style: strong, sentence: cardsSentence(listed)}
	for i, l := range listed {
		a.add(fmt.Sprintf("%d  %s", i+1, l.Card.Name), "%s", strings.Join(cardLines(l), "\n"))
	}
	a.print(v.Err, v.errWidth)
	for {
		typed, err := v.ask(ctx, "Which one? Type its number or its name, or nothing for none:")
		if err != nil || typed == "" {
			return -1, err
		}
		for i, l := range listed {
			if typed == strconv.Itoa(i+1) || typed == l.Card.Name || typed == l.Card.Path {
				return i, nil
			}
		}
		v.Say(fmt.Sprintf("%s is none of them.", typed))
	}
}
