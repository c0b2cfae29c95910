package view

import (
	"fmt"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
)

// Peeked is what was found in an image or on a card; one of Image and Card is nil.
type Peeked struct {
	Path      string
	Image     *image.File
	Contents  image.Contents
	Card      *card.Card
	Disk      layout.Disk
	Shortfall int64 // bytes that a raw image lacks
	Used      int64 // bytes that were read of the file or card
}

// Size is that of the file or card, bytes.
func (p Peeked) Size() int64 {
	if p.Card != nil {
		return p.Card.Size
	}
	return p.Image.Size
}

// Needs is how large a card must be for the image, bytes; 0 if that isn't known, or for a card.
func (p Peeked) Needs() int64 {
	if p.Card != nil {
		return 0
	}
	return max(p.Contents.Size.Bytes, p.Disk.Table.End())
}

// Peek shows what is in an image or on a card.
func (v *Screen) Peek(p Peeked) {
	a := &answer{style: strong, sentence: PeekSentence(p)}
	if p.Card != nil {
		a.add("card", "%s, %s", p.Card.Name, exact(p.Card.Size))
		a.add("kind", "%s", kindFact(p.Card))
	} else {
		peekedFile(a, p)
	}
	a.add("table", "%s", tableFact(p.Disk.Table))
	for _, c := range p.Disk.Parts {
		a.add(fmt.Sprintf("partition %d", c.Number), "%s", partFact(c))
	}
	if w := p.Disk.Whole; w.Kind != "" {
		a.add("holds", "%s", fsFact(w))
	}
	bootFacts(a, p.Disk)
	for _, problem := range PeekProblems(p) {
		a.add("caution", "%s", word(problem))
	}
	if p.Used > 0 && p.Image != nil && p.Contents.Packing != image.RawPacking {
		a.add("read", "%s of the file", Bytes(min(p.Used, p.Image.Size)))
	}
	for _, n := range peekAdvice(p) {
		a.note("%s", n)
	}
	a.print(v.Out, v.width)
}

func peekedFile(a *answer, p Peeked) {
	fact := fmt.Sprintf("%s, %s, %s", FileName(p.Path), p.Contents.Packing, exact(p.Image.Length()))
	if p.Contents.Packing == image.RawPacking {
		fact = fmt.Sprintf("%s, not packed, %s", FileName(p.Path), exact(p.Image.Length()))
	}
	if p.Image.Once() {
		fact = fmt.Sprintf("%s, %s", FileName(p.Path), p.Contents.Packing)
	}
	a.add("file", "%s", fact)
	if p.Contents.Member != "" {
		a.add("image", "%s", word(p.Contents.Member))
	}
	switch size := p.Contents.Size; {
	case p.Contents.Packing == image.RawPacking:
	case size.Certainty == image.Exact:
		a.add("unpacks to", "%s", exact(size.Bytes))
	case size.Certainty == image.AtLeast:
		a.add("unpacks to", "%s or more: the packing gives a lower bound only", exact(size.Bytes))
	default:
		a.add("unpacks to", "not known: the packing doesn't tell before all is unpacked")
	}
	if needs := p.Needs(); needs > 0 {
		least := ""
		if p.Contents.Size.Certainty != image.Exact {
			least = ", going by what is known"
		}
		if size := SmallestCard(needs); size > 0 {
			a.add("card", "%s or larger%s",
				strings.Replace(strings.Replace(Bytes(size), ".00 ", " ", 1), ".0 ", " ", 1), least)
		}
	}
}

// PeekSentence is what was found in one sentence.
func PeekSentence(p Peeked) string {
	name := FileName(p.Path)
	if p.Card != nil {
		name = word(p.Card.Name)
	}
	parts := Count(len(p.Disk.Parts), "partition")
	switch p.Disk.Kind {
	case layout.KindDisc:
		return fmt.Sprintf(
			"%s is an installer or live disc (ISO hybrid): it can be stamped, and starts computers, not boards.", name,
		)
	case layout.KindPlainDisc:
		return fmt.Sprintf("%s is an optical disc without a partition table: nothing starts from a card that holds it.",
			name)
	case layout.KindFileSystem:
		return fmt.Sprintf("%s is a single file system (%s) without a partition table.", name, p.Disk.Whole.Kind)
	case layout.KindBlank:
		return fmt.Sprintf("%s is blank: it starts with zeros.", name)
	case layout.KindUnknown:
		return fmt.Sprintf("%s starts with no known partition table or file system.", name)
	}
	what := "has " + parts
	if p.Card == nil {
		what = "is an image with " + parts
	}
	if b := p.Disk.Boot; b != nil && len(b.Kernels) > 0 {
		return fmt.Sprintf("%s %s, for %s.", name, what, listed(b.Processors(), 3))
	}
	return fmt.Sprintf("%s %s.", name, what)
}

func tableFact(t layout.Table) string {
	switch {
	case t.Scheme == layout.NoTable:
		return "none"
	case t.Sector != layout.SectorSize:
		return fmt.Sprintf("%s, in sectors of %d bytes", word(string(t.Scheme)), t.Sector)
	case t.Scheme == layout.Hybrid:
		return "hybrid: a GPT, and an MBR that shows some of its partitions too"
	}
	return word(string(t.Scheme))
}

func partFact(c layout.Content) string {
	fact := fmt.Sprintf("%s at %s", Bytes(c.Length), Bytes(c.Start))
	what := word(c.Type)
	if c.Kind != "" && string(c.Kind) != c.Type {
		what = word(string(c.Kind)) + " (table: " + word(c.Type) + ")"
	}
	fact += ", " + what
	if c.Label != "" {
		fact += fmt.Sprintf(", label %q", c.Label)
	}
	if c.Name != "" {
		fact += fmt.Sprintf(", name %q", c.Name)
	}
	if c.Active {
		fact += ", active"
	}
	return fact
}

func fsFact(fs layout.FileSystem) string {
	fact := word(string(fs.Kind))
	if fs.Label != "" {
		fact += fmt.Sprintf(", label %q", fs.Label)
	}
	if fs.Size > 0 {
		fact += ", " + Bytes(fs.Size)
	}
	return fact
}

// bootFacts are for the question: is this for my board?
func bootFacts(a *answer, d layout.Disk) {
	b := d.Boot
	if b == nil {
		return
	}
	where := "on the whole disk"
	if d.BootOn > 0 {
		where = fmt.Sprintf("on partition %d", d.BootOn)
	}
	fact := fmt.Sprintf("%s, %s, %s", Count(b.Files, "file"), Bytes(b.Bytes), where)
	switch {
	case b.Files > len(b.Largest):
		fact += ": " + strings.Join(words(b.Largest), ", ") + ", and smaller ones"
	case b.Files > 0:
		fact += ": " + listed(b.Largest, len(b.Largest))
	}
	a.add("boot files", "%s", fact)
	var kernels []string
	for _, k := range b.Kernels {
		kernels = append(kernels, fmt.Sprintf("%s: %s", word(k.Path), word(k.Processor)))
	}
	if len(kernels) > 6 {
		kernels = append(kernels[:6], fmt.Sprintf("and %d more", len(b.Kernels)-6))
	}
	a.add("kernels", "%s", strings.Join(kernels, "\n"))
	if len(b.Boards) > 0 {
		a.add("boards", "%s, by the names of the device trees", listed(b.Boards, 12))
	}
}

// listed joins words, no more than most of them.
func listed(all []string, most int) string {
	shown := words(all[:min(len(all), most)])
	switch rest := len(all) - len(shown); {
	case rest > 0:
		return fmt.Sprintf("%s and %d more", strings.Join(shown, ", "), rest)
	case len(shown) > 1:
		return strings.Join(shown[:len(shown)-1], ", ") + " and " + shown[len(shown)-1]
	}
	return strings.Join(shown, "")
}

// words makes texts from outside fit to be shown.
func words(all []string) []string {
	var out []string
	for _, w := range all {
		out = append(out, word(w))
	}
	return out
}

// PeekProblems are what is wrong with what was found.
func PeekProblems(p Peeked) []string {
	var out []string
	d := p.Disk
	if d.Table.Damage.What != "" {
		out = append(out, tableDamage(d.Table.Damage))
	}
	if p.Shortfall > 0 {
		out = append(out, fmt.Sprintf("the file is cut short: its partition table goes on for %s more",
			exact(p.Shortfall)))
	}
	if end := d.Table.End(); p.Card != nil && end > p.Card.Size {
		out = append(out, fmt.Sprintf("the partition table goes on for %s beyond the card's end",
			exact(end-p.Card.Size)))
	} else if size := p.Contents.Size; p.Card == nil && size.Certainty == image.Exact && end > size.Bytes &&
		p.Shortfall == 0 {
		out = append(out, fmt.Sprintf("the partition table goes on for %s beyond the image's end",
			exact(end-size.Bytes)))
	}
	if d.Boot != nil && d.Boot.Damage != "" {
		out = append(out, "not all of the boot files could be read: "+d.Boot.Damage)
	}
	if d.Lost != nil {
		out = append(out, "not all could be read: "+d.Lost.Error())
	}
	return out
}

// peekAdvice is what to do with what was found.
func peekAdvice(p Peeked) []string {
	if p.Card != nil {
		return nil
	}
	switch p.Disk.Kind {
	case layout.KindDisc:
		return []string{"If it is meant for a board, look for the image for that board on the publisher's page."}
	case layout.KindPlainDisc:
		return []string{
			"Look for an image for your board on the publisher's page; this one is for a disc, or for a virtual " +
				"machine.",
		}
	case layout.KindFileSystem:
		return []string{
			"An image for a whole card starts with a partition table. This one belongs in a partition, unless its " +
				"publisher says that it is for a whole card.",
		}
	case layout.KindUnknown, layout.KindBlank:
		return []string{"Check that it is the right file: few boards start from such a card."}
	}
	return nil
}

// cardSizes are those in shops, bytes. Cards hold up to some percent less than what is printed on them, so an image
// must leave roomLeft of a hundred.
var cardSizes = []int64{
	64e6, 128e6, 256e6, 512e6, 1e9, 2e9, 4e9, 8e9, 16e9, 32e9, 64e9, 128e9, 256e9, 512e9, 1e12, 2e12,
}

const roomLeft = 5

// SmallestCard is the smallest size in shops that surely takes so many bytes; 0 if there is none.
func SmallestCard(bytes int64) int64 {
	if bytes <= 0 {
		return 0
	}
	for _, size := range cardSizes {
		if bytes <= size/100*(100-roomLeft) {
			return size
		}
	}
	return 0
}
