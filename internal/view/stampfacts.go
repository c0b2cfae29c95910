package view

import (
	"cmp"
	"fmt"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/trust"
)

// imageFacts are what was stamped, and what shows that it is right.
func imageFacts(a *answer, doc receipt.Document) {
	if !isStamped(doc) {
		doc.Image.Unpacked = 0 // as far as it came, which is no size of an image
	}
	a.add("image", "%s", docImage(doc.Image))
	from := doc.Image.URL
	if doc.Image.System != "" {
		from = fmt.Sprintf("%s %s, %s", doc.Image.System, doc.Image.Release, from)
	}
	a.add("from", "%s", word(from))
	if isStamped(doc) {
		a.add("checked", "%s", checkedFact(doc.Image))
		if own := doc.Image.Image["sha256"]; own != "" {
			a.add("SHA-256", "%s", own)
		} else if packed := doc.Image.Download["sha256"]; packed != "" {
			a.add("SHA-256", "%s\nof the packed file", packed)
		}
	}
}

// stampFacts are the facts of a stamp.
func stampFacts(a *answer, doc receipt.Document) {
	imageFacts(a, doc)
	cardFacts(a, doc)
}

// cardFacts are the facts of a card that was stamped.
func cardFacts(a *answer, doc receipt.Document) {
	a.add("card", "%s, %s, %s", doc.Card.Name, exact(doc.Card.Size), cardKind(doc.Card))
	phaseFacts(a, doc)
	a.add("time", "%s", tookFact(doc))
	if s := doc.Spots; s != nil && s.Done && gauge.Verdict(s.Verdict) != gauge.Holds {
		a.add("spots", "tried first: %s", s.Verdict)
	} else if s != nil && !s.Done && s.Why != "" && isStamped(doc) {
		a.add("spots", "not tried first: %s", s.Why)
	}
	if doc.Card.Access == string(card.Cached) && doc.Verdict == receipt.Good {
		a.add(
			"caution",
			"this system can't bypass its own memory for this file, so the read-back says little of the card",
		)
	}
	a.add("written", "%s", writtenFact(doc))
	a.add("skipped", "%s", sparedFact(doc))
	a.add("capacity", "%s", capacityFact(doc))
	a.add("discarded", "%s", restFact(doc))
	a.add("limits", "%s", memoryFact(doc))
	a.add("unsteady", "%s", unsteadyFact(doc))
	a.add("repaired", "%s", extentsFact(doc.Repairs.Blocks))
	a.add("bad", "%s", extentsFact(doc.Bad))
	a.add("forgiven", "%s", mishapsFact(doc.Mishaps))
	a.add("let go", "%s", letGoFact(doc))
	if doc.Bytes.Cleared > 0 {
		a.add("cleared", "an old backup partition table at the card's end (%s)", exact(doc.Bytes.Cleared))
	}
}

// writtenFact says how much was written in all, where that is more than the image's own bytes.
func writtenFact(doc receipt.Document) string {
	b := doc.Bytes
	if b.Total <= b.Written || !isStamped(doc) {
		return ""
	}
	return fmt.Sprintf("%s in all, %s of it to get past the card's own cache and to test it", Bytes(b.Total),
		Bytes(b.Total-b.Written))
}

// sparedFact says how much was not written, and how much less that is than all, by everything that was written.
func sparedFact(doc receipt.Document) string {
	same := doc.Bytes.Spared.Same
	if same == 0 || !isStamped(doc) {
		return ""
	}
	text := Bytes(same) + ", already on the card"
	less := 100 * float64(same) / float64(doc.Bytes.Total+same)
	if (doc.Bytes.Total > 0 || doc.Bytes.Written == 0) && less >= 1 {
		text += fmt.Sprintf(" (%.0f%% less wear)", less)
	}
	return text
}

// capacityFact says what marks beyond the image told of the card.
func capacityFact(doc receipt.Document) string {
	k := doc.Capacity
	switch {
	case k == nil || !isStamped(doc):
		return ""
	case k.Holds > 0 && k.Wraps:
		return fmt.Sprintf("counterfeit: it holds %s of %s; anything written beyond that overwrites earlier data",
			exact(k.Holds), Bytes(doc.Card.Size))
	case k.Holds > 0:
		return fmt.Sprintf("counterfeit: %d of %d marks beyond the image were lost; it holds at least %s of %s",
			k.Marks-k.Right-k.Odd, k.Marks, Bytes(k.Holds), Bytes(doc.Card.Size))
	case k.Odd > 0:
		return fmt.Sprintf("%d of %d marks beyond the image did not read back right; test the card with zipstamp gauge",
			k.Odd, k.Marks)
	case k.Earlier:
		return "no sign of a counterfeit, as an earlier receipt shows"
	case k.Proven:
		return fmt.Sprintf("no sign of a counterfeit: %d marks beyond the image read back right, past a cache of %s",
			k.Marks, Bytes(displacedOf(doc)))
	}
	return ""
}

func displacedOf(doc receipt.Document) int64 {
	if doc.Bytes.Displaced == nil {
		return 0
	}
	return *doc.Bytes.Displaced
}

// restFact says what was discarded beyond the image.
func restFact(doc receipt.Document) string {
	switch d := doc.Bytes.Discarded; {
	case d.Why != "" && d.Rest == 0:
		return "nothing beyond the image: " + word(d.Why)
	case d.Why != "":
		return fmt.Sprintf("%s beyond the image, and no more: %s", Bytes(d.Rest), word(d.Why))
	case d.Rest > 0:
		return Bytes(d.Rest) + " beyond the image"
	}
	return ""
}

// unsteadyFact lists blocks that were right before anything was written, and not at the end.
func unsteadyFact(doc receipt.Document) string {
	if doc.Unsteady == nil {
		return ""
	}
	return "right when they were read first, and wrong at the end:\n" + extentsFact(*doc.Unsteady)
}

// memoryFact says which cards' memories a stamp could not see through, where it could less than usual.
func memoryFact(doc receipt.Document) string {
	if doc.Verdict != receipt.Good || doc.Bytes.Displaced == nil || *doc.Bytes.Displaced >= stamp.Displaced {
		return ""
	}
	return fmt.Sprintf("a card with a cache larger than %s could still hide a loss", Bytes(*doc.Bytes.Displaced))
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

// checkedFact is what shows that an image is the one that was published: a good signature of a key that counts, and
// digests that agree.
func checkedFact(i receipt.Image) string {
	var facts []string
	for _, s := range i.Signatures {
		if trust.Status(s.Status) == trust.Good {
			facts = append(facts, fmt.Sprintf("signed by %s (%s)", signerOf(s.Kept), s.Owner))
			break
		}
	}
	for _, p := range i.Published {
		if p.Matched == "" {
			continue
		}
		source := "as given"
		if p.Own {
			source = "unchanged since it was saved from a card"
		} else if p.File != "" {
			source = "as published in " + published(p)
		}
		if check.On(p.Matched) == check.Packed {
			source += ", of the packed file that the image is unpacked from"
		}
		facts = append(facts, fmt.Sprintf("%s, %s", cmp.Or(digest.Called(p.Algorithm), p.Algorithm), source))
	}
	if len(facts) == 0 {
		return "no published digest was found to compare with"
	}
	return strings.Join(facts, "\n")
}

// published names the file, and the line in it, that a digest stands in.
func published(p receipt.Published) string {
	if p.Line > 0 {
		return fmt.Sprintf("%s, line %d", FileName(p.File), p.Line)
	}
	return FileName(p.File)
}

// shownExtents is how many are listed; the receipt has more.
const shownExtents = 6

// extentsFact lists stretches of the card by offset.
func extentsFact(all receipt.Extents) string {
	var lines []string
	for i, e := range all.List {
		if i == shownExtents {
			lines = append(lines, fmt.Sprintf("and %d more stretches", all.Count-i))
			break
		}
		lines = append(lines, fmt.Sprintf("%s at byte %s", Count(blocksIn(all.List[i:i+1]), "block"), place(e.Offset)))
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
