package view

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/image"
	"zipstamp/internal/loose"
	"zipstamp/internal/shell"
)

// Plan is what a person is shown before cards are overwritten.
type Plan struct {
	Cards     []Listed    // of a file, only Card is set
	Image     *image.File // nil where none is written
	Contents  image.Contents
	Keeps     bool   // what is on the cards is put back
	Then      string // what will be done, where it is no stamp
	Published check.Published
	Unsure    bool       // the image starts with neither a partition table nor a file system
	From      string     // URL of an image that is fetched; empty for others
	Arrives   bool       // it is downloaded while it is stamped
	Files     *loose.Set // that go onto the cards in place of an image; nil: none do
}

// StampTitle says what is written onto which cards.
func StampTitle(what string, cards []*card.Card) string {
	var names []string
	for _, c := range cards {
		name := word(c.Name)
		if c.Disk != nil {
			name = word(c.Path)
		}
		names = append(names, name)
	}
	title := what + " onto " + and(names)
	if len(cards) == 1 {
		title += sizeAndModel(cards[0])
	}
	return title
}

// WholeTitle says which card is tested; first is how many bytes of it, 0: all.
func WholeTitle(c *card.Card, first int64) string {
	what := "every block"
	if first > 0 && first < c.Size {
		what = "the first " + Bytes(first)
	}
	return fmt.Sprintf("a test of %s of %s%s", what, word(c.Name), sizeAndModel(c))
}

func sizeAndModel(c *card.Card) string {
	text := ", " + Bytes(c.Size)
	if model := modelOf(c); model != "" {
		text += ", " + model
	}
	return text
}

// modelOf is what a card says it is; empty if it says nothing.
func modelOf(c *card.Card) string {
	if c.Disk == nil {
		return word(c.Model)
	}
	return word(c.Disk.Title())
}

// FilesIn names the files in an archive or a folder.
func FilesIn(path string) string { return "the files in " + FileName(path) }

// ShowPlan shows the cards, what will be written to them, and what the image will be compared with.
func (v *Screen) ShowPlan(p Plan) { v.planAnswer(p).print(v.Err, v.errWidth) }

// DrySentence says what a job would do that a dry run has left undone.
func DrySentence(job string, p Plan) string {
	var names []string
	for _, l := range p.Cards {
		names = append(names, l.Card.Name)
	}
	would := fmt.Sprintf("zipstamp %s would work on %s", job, and(names))
	if p.Image != nil {
		would = fmt.Sprintf("%s would be stamped onto %s", FileName(p.Image.Path), and(names))
	}
	if p.Files != nil {
		would = fmt.Sprintf("the files in %s would be put onto %s", FileName(p.Files.Path), and(names))
	}
	return "Nothing was written: this was a dry run. Without it, " + would + "."
}

// DryRun shows what would be done.
func (v *Screen) DryRun(sentence string, p Plan) {
	a := v.planAnswer(p)
	a.sentence = sentence
	a.print(v.Out, v.width)
}

func (v *Screen) planAnswer(p Plan) *answer {
	var names []string
	for _, l := range p.Cards {
		names = append(names, word(l.Card.Name))
	}
	a := &answer{
		style: strong, sentence: fmt.Sprintf("All that is on %s will be overwritten:", listed(names, len(names))),
	}
	if p.Keeps {
		a.sentence = fmt.Sprintf("%s will be tested:", listed(names, len(names)))
	}
	if len(p.Cards) == 1 {
		planCard(a, p.Cards[0])
	} else {
		for _, l := range p.Cards {
			lines := []string{exact(l.Card.Size) + ", " + kindFact(l.Card)}
			if l.Card.Disk != nil {
				lines = cardLines(l)
			}
			a.add(word(l.Card.Name), "%s", strings.Join(lines, "\n"))
		}
	}
	if p.Image != nil {
		fact := imageFact(p.Image, p.Contents)
		if (p.Image.Once() || p.Arrives) && p.Contents.Packing != image.RawPacking &&
			p.Contents.Size.Certainty != image.Exact {
			fact += "\nif it is too large for the card, that shows only when the card has been overwritten"
		}
		a.add("image", "%s", fact)
		if p.Arrives {
			a.add("from", "%s\nit is downloaded while it is written, and kept on the shelf", wordLines(p.From))
		} else if p.From != "" {
			a.add("from", "%s, and is on the shelf", p.From)
		}
		a.add("published", "%s", publishedFact(p))
	}
	if p.Files != nil {
		a.add("files", "%s", filesFact(p.Files))
		if p.Files.Archive != nil {
			a.add("published", "%s", publishedFact(p))
		}
	}
	a.add("then", "%s", p.Then)
	for _, n := range v.planNotes(p) {
		a.note("%s", n)
	}
	return a
}

// planCard shows a single card.
func planCard(a *answer, l Listed) {
	c := l.Card
	if c.Disk == nil {
		a.add("card", "%s, %s", word(c.Name), exact(c.Size))
		a.add("kind", "%s", kindFact(c))
		a.add("path", "%s", oneLine(c.Path))
		a.add("kept in", "%s", oneLine(c.Kept()))
		planHolds(a, l)
		return
	}
	a.add("card", "%s", word(c.Name)+", "+cardTitle(c))
	a.add("path", "%s", oneLine(c.Path))
	a.add("registers", "%s", registersLine(c.Disk))
	a.add("odd", "%s", strings.Join(words(Remarks(l.Remarks)), "\n"))
	planHolds(a, l)
	use := strings.Join(useLines(c), "\n")
	if use == "" {
		use = "nothing of it"
	}
	a.add("in use", "%s", use)
}

// planHolds shows what is on a card, and what was done to it.
func planHolds(a *answer, l Listed) {
	a.add("called", "%s", word(l.OwnName))
	a.add("now", "%s", holdsLine(l))
	if m := l.Unfinished; m != nil {
		a.add("unfinished", "%s; what it has written is not written again", unfinishedClause(*m))
	}
	if l.Last != nil {
		a.add("last", "%s", strings.TrimPrefix(lastLine(l), "last "))
	}
	if l.Tested != nil {
		a.add("tested", "%s", strings.TrimPrefix(testedLine(l.Tested, l.TestedLike), "tested "))
	}
}

func kindFact(c *card.Card) string {
	fact := word(string(c.Kind))
	if c.Model != "" {
		fact += ", " + word(c.Model)
	}
	if c.Serial != "" {
		fact += ", serial " + word(c.Serial)
	}
	return fact
}

func imageFact(f *image.File, c image.Contents) string {
	fact := FileName(f.Path)
	if c.Member != "" {
		fact = fmt.Sprintf("%s in %s", word(c.Member), fact)
	}
	switch {
	case c.Packing == image.RawPacking:
		return fmt.Sprintf("%s, %s", fact, exact(f.Length()))
	case c.Size.Certainty == image.Exact:
		return fmt.Sprintf("%s, %s, unpacks to %s", fact, c.Packing, exact(c.Size.Bytes))
	case c.Size.Certainty == image.AtLeast:
		return fmt.Sprintf("%s, %s, unpacks to %s or more", fact, c.Packing, Bytes(c.Size.Bytes))
	}
	return fmt.Sprintf("%s, %s, unpacked size not known beforehand", fact, c.Packing)
}

func publishedFact(plan Plan) string {
	p, when := plan.Published, "checked before anything is written"
	if plan.Arrives {
		when = "compared before the first block is written"
	}
	if p.Nothing() {
		return "no published digest was found to compare with"
	}
	var facts []string
	for _, d := range p.Digests {
		facts = append(
			facts, fmt.Sprintf("%s in %s; %s", d.Algorithm, word(d.Source()), when),
		)
	}
	for _, s := range p.Signatures {
		if s.Key != nil {
			facts = append(facts, fmt.Sprintf("signature of %s: %s (%s)", FileName(s.Of), word(string(s.Status)),
				word(s.Key.Owner)))
		}
	}
	for _, file := range p.Signed {
		facts = append(facts, fmt.Sprintf("signature in %s; %s", FileName(file), when))
	}
	for _, w := range p.Wrong {
		facts = append(facts, word(w.Error()))
	}
	return strings.Join(facts, "\n")
}

func (v *Screen) planNotes(p Plan) []string {
	var notes []string
	mounts, swaps := 0, 0
	for _, l := range p.Cards {
		m, w := l.Card.InUse()
		mounts, swaps = mounts+len(m), swaps+len(w)
		if least := p.Contents.Size; least.Certainty == image.AtLeast && least.Bytes > l.Card.Size {
			notes = append(notes, fmt.Sprintf("The image seems too large for %s: its packing says %s or more.",
				word(l.Card.Name), Bytes(least.Bytes)))
		}
		if l.Card.Disk != nil && v.here.Untried && !p.Keeps && len(notes) == 0 {
			notes = append(notes, strings.ToUpper(untried(v.here.System)[:1])+untried(v.here.System)[1:]+
				"; see that it is the right card.")
		}
		if len(l.Card.Reasons(card.Consent{Asked: true})) > 0 {
			notes = append(notes, fmt.Sprintf("%s is no card: it is a fixed disk. See that it is the right one.",
				word(l.Card.Name)))
		}
	}
	if mounts > 0 {
		notes = append(notes, "What is mounted will be unmounted first.")
	}
	if swaps > 0 {
		notes = append(notes, "Swap will be turned off first; the computer must do without it.")
	}
	if p.Unsure {
		notes = append(
			notes,
			"The image starts with no known partition table or file system; see that it is the right "+
				"file.",
		)
	}
	what := ""
	switch {
	case p.Image != nil:
		what = "image"
	case p.Files != nil:
		notes = append(notes, filesNotes(p.Files)...)
		if p.Files.Archive != nil {
			what = "archive"
		}
	}
	if what != "" && p.Published.Nothing() {
		notes = append(notes,
			fmt.Sprintf("No published digest was given or found beside the %s, so nothing shows that it is "+
				"the one that was published.", what))
	}
	return notes
}

// Confirm asks whether to go on with cards: for the name of one, as it was shown, or for the number of several, or all
// their names. The case doesn't count, and there is a second try. It returns false for any other answer, and the cause
// of ctx's end if that comes first.
func (v *Screen) Confirm(ctx context.Context, cards ...*card.Card) (bool, error) {
	question := fmt.Sprintf("Type %s to go on, anything else to leave the card as it is:", word(cards[0].Name))
	again := fmt.Sprintf("That is not its name. Type %s to go on, or nothing to leave it as it is:",
		word(cards[0].Name))
	if len(cards) > 1 {
		question = fmt.Sprintf("Type %d, the number of the cards, to go on with all of them, anything else to leave "+
			"them "+
			"as they are:", len(cards))
		again = fmt.Sprintf("That is not their number. Type %d to go on, or nothing to leave them as they are:",
			len(cards))
	}
	for _, q := range []string{question, again} {
		typed, err := v.ask(ctx, q)
		if err != nil || confirms(typed, cards) {
			return err == nil, err
		}
		switch strings.ToLower(typed) {
		case "", "n", "no", "q", "quit":
			return false, nil
		}
	}
	return false, nil
}

// confirms tells whether what was typed means the cards.
func confirms(typed string, cards []*card.Card) bool {
	if len(cards) == 1 {
		c := cards[0]
		return slices.ContainsFunc([]string{c.Name, c.Path, c.Given, filepath.Base(c.Path)}, func(name string) bool {
			return name != "" &&
				strings.EqualFold(strings.Join(strings.Fields(typed), " "), strings.Join(strings.Fields(name),
					" "))
		})
	}
	var names []string
	for _, c := range cards {
		names = append(names, c.Name)
	}
	return typed == strconv.Itoa(len(cards)) ||
		strings.EqualFold(strings.Join(strings.Fields(typed), " "), strings.Join(names, " "))
}

// Agrees asks a question that is answered by yes or no; anything but yes is no.
func (v *Screen) Agrees(ctx context.Context, question string) (bool, error) {
	typed, err := v.ask(ctx, question+" (yes or no)")
	typed = strings.ToLower(typed)
	return err == nil && (typed == "yes" || typed == "y"), err
}

// ask asks for a line of text.
func (v *Screen) ask(ctx context.Context, question string) (string, error) {
	fmt.Fprint(v.Err, "\n"+strong.Render(question)+" ")
	type line struct {
		text string
		err  error
	}
	typed := make(chan line, 1)
	go func() { // ends with the program if nobody types
		text, err := v.typed.ReadString('\n')
		typed <- line{text, err}
	}()
	select {
	case l := <-typed:
		if l.err != nil && l.err != io.EOF {
			return "", l.err
		}
		return strings.TrimSpace(l.text), nil
	case <-ctx.Done():
		fmt.Fprintln(v.Err)
		return "", context.Cause(ctx)
	}
}

// Say writes a sentence beside the results.
func (v *Screen) Say(sentence string) { fmt.Fprintln(v.Err, fold(word(sentence), v.errWidth, "")) }

// MadeSentence is the answer of making a practice card.
func MadeSentence(path string) string { return fmt.Sprintf("Made the practice card %s.", word(path)) }

// Made shows a practice card that was made.
func (v *Screen) Made(path string, claimed, real int64) {
	a := &answer{style: good, sentence: MadeSentence(path)}
	a.add("claims", "%s", exact(claimed))
	if real != claimed {
		a.add("holds", "%s", exact(real))
	}
	a.note("Stamp it like a real card: %s", word("zipstamp stamp IMAGE "+shell.File(path)))
	a.print(v.Out, v.width)
}

// Step shows a command of the demo before it is run.
func (v *Screen) Step(n int, why string, command []string) {
	fmt.Fprintf(v.Out, "\n%s\n%s\n", fold(fmt.Sprintf("%d. %s", n, why), v.width, "   "),
		strong.Render("$ "+shell.Command(command...)))
}

// StepStatus shows how a command of the demo ended.
func (v *Screen) StepStatus(status int) {
	fmt.Fprintln(v.Out, faint.Render(fmt.Sprintf("(exit status %d)", status)))
}

// TryNext lists commands to go on with.
func (v *Screen) TryNext(commands [][]string) {
	fmt.Fprintf(v.Out, "\n%s\n", strong.Render("To try next:"))
	for _, c := range commands {
		fmt.Fprintf(v.Out, "  %s\n", shell.Command(c...))
	}
}
