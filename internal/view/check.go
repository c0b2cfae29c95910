package view

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/shell"
	"zipstamp/internal/trust"
)

// Check shows the result of a check.
func (v *Screen) Check(r check.Report) {
	checkAnswer(r, v.width).print(v.Out, v.width)
}

// CheckSentence is the answer of a check in one sentence.
func CheckSentence(r check.Report) string { return checkAnswer(r, standard).sentence }

// Refused is the error of an image that is not what was published.
func Refused(r check.Report) error { return errors.New(strings.TrimRight(CheckSentence(r), ".")) }

func checkAnswer(r check.Report, width int) *answer {
	a := &answer{groups: groupsIn(width)}
	name := FileName(r.Path)
	switch r.Outcome() {
	case check.Matched:
		matched(a, name, r)
	case check.NothingPublished:
		unpublished(a, name, r)
	case check.Broken:
		broken(a, name, r)
	case check.Mismatched:
		mismatched(a, name, r)
	}
	if l := r.Lapse(); l != nil {
		if r.Outcome() == check.Matched {
			a.style = caution
		}
		a.note("%s", Lapsed(l))
	}
	return a
}

// matched grades what is known, from a signature down to a digest that shows damage only.
func matched(a *answer, name string, r check.Report) {
	a.style = good
	a.sentence = matchedSentence(name, r)
	a.add("file", "%s", fileFact(r))
	for _, h := range r.Published {
		a.add(h.Algorithm.String(), "%s\nas in %s, for %s", a.grouped(h.Hex()), word(h.Source()), matchedOn(h.Matched))
	}
	if r.Via != nil && r.Via.Same {
		a.add("unpacked", "from %s, compared with what that unpacks to", FileName(r.Via.Path))
	}
	misnamed(a, name, r)
	signatureFacts(a, r)
	if r.Copy != nil && !r.Copy.Whole() {
		a.style = caution
		a.note("%s", CopyGaps(name, r.Copy))
	}
	if noImage := (*image.UnusableError)(nil); errors.As(r.NoImage, &noImage) {
		a.style = caution
		a.note("It %s; it can't be stamped.", word(unusableClause(noImage)))
	}
	if r.SignedBy() == nil && r.OnlyForgeable() {
		a.style = caution
		a.note("%s shows that the file is not damaged. It does not show who made it: other files with the same "+
			"digest can be made.", r.Best().Algorithm)
	}
}

func matchedSentence(name string, r check.Report) string {
	if by := r.SignedBy(); by != nil {
		return fmt.Sprintf("%s is what was published, and signed by %s (%s).", name, signer(by), word(by.Key.Owner))
	}
	h := r.Best()
	if r.IsOwn() {
		return fmt.Sprintf("%s is unchanged since it was saved from %s on %s: its %s agrees.", name, word(r.Copy.Card),
			Day(r.Copy.Made), h.Algorithm)
	}
	if h.Matched == check.Packed {
		return fmt.Sprintf("%s is what %s unpacks to, and that is what was published: its %s agrees.", name,
			FileName(r.Via.Path), h.Algorithm)
	}
	of := "its " + h.Algorithm.String()
	if h.Matched == check.Image {
		of = fmt.Sprintf("the %s of the image in it", h.Algorithm)
	}
	if r.OnlyForgeable() {
		return fmt.Sprintf("%s is not damaged: %s agrees, which shows damage, not forgery.", name, of)
	}
	return fmt.Sprintf("%s is what was published%s: %s agrees.", name, publishedAt(r, h), of)
}

// CopyGaps says what is missing in a copy of a card.
func CopyGaps(name string, c *check.Copy) string {
	var gaps []string
	if c.Missing > 0 {
		gaps = append(gaps, Bytes(c.Missing)+" could not be read, and are zeros in it")
	}
	if c.Unsteady > 0 {
		gaps = append(gaps, Bytes(c.Unsteady)+" did not read the same twice")
	}
	return fmt.Sprintf("%s is an incomplete copy of %s: %s.", name, word(c.Card), strings.Join(gaps, "; "))
}

// IncompleteCopy is the error of an image that is a copy of a card in which something is missing.
func IncompleteCopy(path string, c *check.Copy) error {
	return hinted("add --incomplete to stamp it all the same", "%s",
		strings.TrimRight(CopyGaps(FileName(path), c), "."))
}

// publishedAt says where that was published which agrees, if that is known.
func publishedAt(r check.Report, h check.Compared) string {
	switch host, in := r.PublishedBy(h); {
	case host != "":
		return " at " + word(host)
	case in != "":
		return " in " + word(in)
	}
	return ""
}

// unprovenNotes says which digests don't count, since anybody could have changed them on their way.
func unprovenNotes(a *answer, r check.Report) {
	seen := map[string]bool{}
	for _, d := range r.Unproven {
		if !seen[d.From] {
			seen[d.From] = true
			a.note("%s has a digest, but it came without https and is not signed by a key that you keep, so it counts "+
				"for nothing: anybody on the way could have changed it.", word(cmp.Or(d.Place, FileName(d.From))))
		}
	}
}

// signer tells why the key of a good signature counts.
func signer(s *trust.Signature) string { return signerOf(s.Key.Kept) }

func signerOf(kept bool) string {
	if kept {
		return "a key that you keep"
	}
	return "the key that you named"
}

// FileName is a file's name as it is shown.
func FileName(path string) string {
	if path == image.Input {
		return "standard input"
	}
	return word(filepath.Base(path))
}

func matchedOn(on check.On) string {
	switch on {
	case check.Image:
		return "the unpacked image"
	case check.Packed:
		return "the packed file that this image is unpacked from"
	}
	return "the file as downloaded"
}

// misnamed says that a digest was given under another name.
func misnamed(a *answer, name string, r check.Report) {
	for _, h := range r.Published {
		if h.Misnamed {
			a.note("The digest given is that of %s, by what was given with it, and not of %s.", word(h.File), name)
		}
	}
}

// signatureFacts shows each signature, and what it counts for.
func signatureFacts(a *answer, r check.Report) {
	for _, s := range r.Signatures {
		where := fmt.Sprintf("%s, of %s", FileName(s.File), FileName(s.Of))
		if s.Clear() {
			where = "within " + FileName(s.Of)
		}
		fact := fmt.Sprintf("%s (%s)", where, word(string(s.Format)))
		switch s.Status {
		case trust.Good:
			fact += fmt.Sprintf("\ngood, by key %s: %s", word(s.KeyID), word(s.Key.Owner))
			if !s.Made.IsZero() {
				fact += ", made on " + s.Made.UTC().Format("2 January 2006")
			}
		case trust.Unknown:
			fact += fmt.Sprintf("\nby key %s, which you don't keep, so it counts for nothing", word(s.KeyID))
		case trust.Bad:
			fact += fmt.Sprintf("\nbad: %s", word(s.Why))
		case trust.Refused:
			fact += fmt.Sprintf("\nrefused: %s", word(s.Why))
			if s.KeyID != "" {
				fact += fmt.Sprintf(" (key %s)", word(s.KeyID))
			}
		}
		a.add("signature", "%s", fact)
	}
	for _, u := range r.Unsigned {
		a.note("%s has lines outside of what is signed (%s). Anybody can have added them; they are not used.",
			FileName(u.File), lineNumbers(u.Lines))
	}
	if r.BadSignature() == nil && r.SignedBy() == nil && slices.ContainsFunc(r.Signatures,
		func(s trust.Signature) bool { return s.Status == trust.Unknown }) {
		a.note("To rely on the signature, get the publisher's key from a place that you trust: zipstamp keys add FILE")
	}
}

// lineNumbers lists the first few lines.
func lineNumbers(lines []int) string {
	const most = 4
	var out []string
	for _, n := range lines[:min(len(lines), most)] {
		out = append(out, fmt.Sprint(n))
	}
	if len(lines) == 1 {
		return "line " + out[0]
	}
	if len(lines) > most {
		return fmt.Sprintf("lines %s and %d more", strings.Join(out, ", "), len(lines)-most)
	}
	return "lines " + strings.Join(out, ", ")
}

func unpublished(a *answer, name string, r check.Report) {
	a.style = caution
	a.sentence = fmt.Sprintf("Nothing was compared: no published digest was given or found beside %s.", name)
	if len(r.Unproven) > 0 {
		a.sentence = fmt.Sprintf("Nothing was compared: the digest found for %s came without https, and is not signed.",
			name)
	}
	if len(r.NotHere) > 0 {
		a.sentence = fmt.Sprintf("Nothing was compared: the published digest is of the packed file %s, which is not "+
			"here.",
			word(or(r.NotHere)))
	}
	a.add("file", "%s", fileFact(r))
	nearFacts(a, r)
	for _, d := range r.Download {
		a.add(d.Algorithm.String(), "%s\nof the file as downloaded", a.grouped(d.Hex()))
	}
	for _, d := range r.Image {
		a.add(d.Algorithm.String(), "%s\nof the unpacked image", a.grouped(d.Hex()))
	}
	switch {
	case len(r.Image) > 0 && r.Unchecked:
		a.add("packing", "unpacks to its end; it has no check values that would show damage")
	case len(r.Image) > 0:
		a.add("packing", "unpacks to its end, and the packing's own check values agree")
	}
	diagnosis(a, r)
	signatureFacts(a, r)
	unprovenNotes(a, r)
	switch {
	case len(r.Unproven) > 0:
	case len(r.NotHere) > 0:
		a.note("Stamp the packed file, as it was downloaded: it needs no unpacking, and can be compared.")
	case len(r.Near) > 0:
		a.note("If a digest there is meant for this file, the file is not what was published: zipstamp check --sums "+
			"%s %s",
			word(shell.File(r.Near[0].From)), word(shell.File(r.Path)))
	default:
		a.note("To compare it, give what the publisher's page says: zipstamp check --digest DIGEST %s",
			word(shell.File(r.Path)))
	}
}

// nearFacts lists the files that may have a digest of the image.
func nearFacts(a *answer, r check.Report) {
	seen := map[string]bool{}
	for _, d := range r.Near {
		if !seen[d.From] {
			seen[d.From] = true
			a.add("near",
				"%s has a digest without a name, line %d; it is not that of this file, nor of the image in it",
				FileName(d.From), d.Line)
		}
	}
}

func broken(a *answer, name string, r check.Report) {
	var damage *image.DamageError
	var unusable *image.UnusableError
	a.style = bad
	switch {
	case r.Size == 0:
		a.sentence = name + " is empty."
	case r.Other.Kind != "":
		a.sentence = fmt.Sprintf("%s is %s, not an image of a disk.", name, word(Stranger(r.Other)))
	case errors.As(r.Damage, &unusable):
		a.sentence = fmt.Sprintf("%s %s.", name, word(unusableClause(unusable)))
	case errors.As(r.Damage, &damage) && damage.Trailing > 0:
		a.sentence = fmt.Sprintf("%s has %s behind its end that do not belong to it.", name,
			Count(damage.Trailing, "byte"))
	case errors.As(r.Damage, &damage) && damage.Truncated, r.Shortfall > 0:
		a.sentence = name + " is cut short: the download was not complete."
	default:
		a.sentence = name + " is damaged."
	}
	a.add("file", "%s", fileFact(r))
	if unusable == nil {
		diagnosis(a, r)
	}
	a.add("published", "no published digest was given or found to compare with")
	if unusable != nil {
		a.note("Next: %s.", word(unusableNext(unusable)))
		return
	}
	a.note("Don't use this file. Download it again, from the publisher's own page.")
}

func mismatched(a *answer, name string, r check.Report) {
	a.style = bad
	first := r.Unmatched()
	switch {
	case r.Size == 0:
		a.sentence = fmt.Sprintf("%s is empty.", name)
	case r.Other.Kind != "":
		a.sentence = fmt.Sprintf("%s is %s, not the image that was published.", name, word(Stranger(r.Other)))
	case r.BadSignature() != nil:
		a.sentence = fmt.Sprintf("%s must not be used: its signature is %s.", name, r.BadSignature().Status)
	case len(r.Slips) > 0:
		a.sentence = fmt.Sprintf("%s may be right, but the digest given was copied wrong: %s.", name, r.Slips[0].What)
	case first != nil && first.Slip != "":
		a.sentence = fmt.Sprintf("%s may be right, but the digest was copied wrong: %s.", name, first.Slip)
	case first != nil && r.Via != nil && r.Via.Right:
		a.sentence = fmt.Sprintf("%s is not what %s unpacks to, though that is what was published.", name,
			FileName(r.Via.Path))
	case first != nil && r.Via != nil:
		a.sentence = fmt.Sprintf("%s can't be trusted: %s, which it is unpacked from, is not what was published.", name,
			FileName(r.Via.Path))
	case r.Uncompared() != nil:
		a.sentence = fmt.Sprintf("%s can't be compared with what was published: %s.", name, uncomparedClause(r))
	case first != nil:
		a.sentence = fmt.Sprintf("%s is not what was published: its %s differs.", name, first.Algorithm)
		if r.Copy.Has(first.Digest) {
			a.sentence = fmt.Sprintf("%s has changed since it was saved from %s on %s: its %s differs.", name,
				word(r.Copy.Card), Day(r.Copy.Made), first.Algorithm)
		}
	case len(r.Wrong) == 0:
		a.sentence = fmt.Sprintf("%s is not signed by the key that you named.", name)
	default:
		a.sentence = fmt.Sprintf("%s can't be checked: %s.", name, word(firstSums(r.Wrong[0].Why, r.Wrong[0].Name)))
	}
	a.add("file", "%s", fileFact(r))
	for _, h := range r.Published {
		if h.Matched != check.Neither {
			a.add(h.Algorithm.String(), "agrees with %s, for %s", word(h.Source()), matchedOn(h.Matched))
			continue
		}
		differs(a, r, h)
	}
	for _, s := range r.Slips {
		a.add("given", "%s", a.grouped(s.Digits))
		a.add("", "%s; but for that, it is the %s of %s", s.What, s.Near, matchedOn(s.Of))
	}
	for _, w := range r.Wrong {
		a.add("sums file", "%s", word(w.Error()))
		belongs(a, w.Other, w.Name)
	}
	diagnosis(a, r)
	misnamed(a, name, r)
	signatureFacts(a, r)
	switch {
	case r.BadSignature() == nil && r.Via != nil && r.Via.Right:
		a.note("Stamp %s itself: it needs no unpacking.", FileName(r.Via.Path))
	case r.BadSignature() == nil && (len(r.Slips) > 0 || first != nil && first.Slip != "") && r.Other.Kind == "":
		a.note("Copy the digest again, whole, from the publisher's page: a digest counts only if all of it agrees.")
	case r.Uncompared() != nil && r.BadSignature() == nil:
		a.note("The published digest is not that of the file as downloaded. It may be that of the image in it, which " +
			"could not be computed.")
		if unusable := (*image.UnusableError)(nil); errors.As(r.Damage, &unusable) {
			a.note("Next: %s.", word(unusableNext(unusable)))
		}
	case r.BadSignature() != nil && r.BadSignature().Later && first == nil && r.Other.Kind == "":
		a.note("Set this computer's date, and check again. If the date is right, don't use this file.")
	case first != nil || r.Other.Kind != "" || r.Size == 0 || r.BadSignature() != nil:
		a.note("Don't use this file. Download it again, from the publisher's own page.")
	case len(r.Wrong) == 0:
		a.note("See that the key is the publisher's, and that the signature lies beside the sums file or the image.")
	default:
		a.note("If the file is right, name the sums file or the digest that is meant for it: --sums FILE or --digest " +
			"DIGEST.")
	}
}

// uncomparedClause says why the image in a download has no digest.
func uncomparedClause(r check.Report) string {
	var unusable *image.UnusableError
	var choice *image.ChoiceError
	switch {
	case errors.As(r.Damage, &choice):
		return fmt.Sprintf("it holds %s, and the digest may be of one of them",
			Count(int64(len(choice.Members)), "image"))
	case errors.As(r.Damage, &unusable):
		return "it " + word(unusableClause(unusable))
	}
	return "it can't be unpacked"
}

// firstSums shortens the long list of what a sums file does hold: the sentence has only its start.
func firstSums(why, name string) string {
	short, _, _ := strings.Cut(why, " (")
	return name + " " + short
}

// differs shows a published digest and the computed ones, with the first digit that differs marked.
func differs(a *answer, r check.Report, h check.Compared) {
	a.add("published", "%s %s, from %s", h.Algorithm, named(word(h.File)), word(h.Source()))
	a.add("", "%s", a.grouped(h.Hex()))
	for _, of := range []struct {
		what    string
		digests []digest.Digest
	}{{"this file", r.Download}, {"its image", r.Image}} {
		for _, d := range of.digests {
			if d.Algorithm != h.Algorithm {
				continue
			}
			a.add(of.what, "%s", a.marked(d.Hex(), h.Hex()))
		}
	}
	if h.Sums != nil {
		belongs(a, h.Other, h.Sums.Name)
	}
}

func named(file string) string {
	if file == "" {
		return "of the image"
	}
	return "of " + file
}

func belongs(a *answer, other *digest.Entry, sums string) {
	if other != nil {
		a.add(
			"but",
			"its digest is the one of %s (%s, line %d): this is that file under another name, or the wrong download",
			word(other.File), word(sums), other.Line,
		)
	}
}

// diagnosis says what is known of why a file isn't what it should be.
func diagnosis(a *answer, r check.Report) {
	if r.Partial != "" {
		a.add("name", "ends in %s, as downloads do that are not finished", word(r.Partial))
	}
	var damage *image.DamageError
	var unusable *image.UnusableError
	switch {
	case r.Size == 0 || r.Other.Kind != "":
	case errors.As(r.Damage, &damage) && damage.Truncated && damage.Total.Bytes > damage.At:
		a.add("damage", "cut short: %s by its own account, so the download was not complete", ofTotal(damage))
	case errors.As(r.Damage, &damage) && damage.Truncated:
		a.add(
			"damage",
			"cut short: the file ends at byte %s, before its %s packing does, so the download was not complete",
			place(damage.At), damage.Packing,
		)
	case errors.As(r.Damage, &damage) && damage.Trailing > 0:
		a.add("damage", "its %s packing ends at byte %s, and %v", damage.Packing, place(damage.At), damage.Err)
	case errors.As(r.Damage, &damage):
		a.add("damage", "damaged near byte %s, after %s of the image (%v)", place(damage.At),
			Count(damage.Unpacked, "byte"), word(damage.Err.Error()))
	case errors.As(r.Damage, &unusable):
		a.add("contents", "%s", word(unusableClause(unusable)))
	case r.Damage != nil:
		a.add("contents", "%s", word(ErrorText(r.Damage)))
	}
	if noImage := (*image.UnusableError)(nil); errors.As(r.NoImage, &noImage) {
		a.add("contents", "%s", word(unusableClause(noImage)))
	}
	if r.Shortfall > 0 {
		a.add("damage", "cut short: its partition table goes on for %s more", exact(r.Shortfall))
	}
}

// fileFact says how large a file is, how packed, and what comes out.
func fileFact(r check.Report) string {
	fact := fmt.Sprintf("%s, %s", FileName(r.Path), exact(r.Size))
	switch {
	case r.Packing == image.RawPacking:
		return fact
	case r.Member != "":
		fact += fmt.Sprintf(", %s of %s", word(r.Packing), word(r.Member))
	default:
		fact += ", " + word(r.Packing)
	}
	switch {
	case r.Damage != nil:
	case r.Unpacked.Certainty == image.Exact:
		fact += fmt.Sprintf("\nunpacks to %s", exact(r.Unpacked.Bytes))
	case r.Unpacked.Certainty == image.AtLeast:
		fact += fmt.Sprintf("\nunpacks to %s or more", Bytes(r.Unpacked.Bytes))
	}
	return fact
}

// The digits of a digest stand in groups, and the groups in lines, so that eyes find their place.
const (
	groupDigits = 8
	maxGroups   = 4  // in a line
	besideFacts = 13 // cells that the labels of facts take, in a check
)

// groupsIn is how many groups fit into a line.
func groupsIn(width int) int {
	return min(max((width-besideFacts+1)/(groupDigits+1), 1), maxGroups)
}

// grouped writes hex digits in groups.
func (a *answer) grouped(hex string) severalLines {
	return severalLines(strings.Join(a.groupLines(hex), "\n"))
}

func (a *answer) groupLines(hex string) []string {
	var lines []string
	for line := range slices.Chunk([]byte(hex), groupDigits*a.groups) {
		var groups []string
		for group := range slices.Chunk(line, groupDigits) {
			groups = append(groups, string(group))
		}
		lines = append(lines, strings.Join(groups, " "))
	}
	return lines
}

// marked writes hex digits in groups, with a mark under the first that differs from want.
func (a *answer) marked(hex, want string) string {
	at := 0
	for at < len(hex) && at < len(want) && hex[at] == want[at] {
		at++
	}
	lines := a.groupLines(hex)
	row := at / (groupDigits * a.groups)
	if row >= len(lines) {
		return strings.Join(lines, "\n")
	}
	column := at % (groupDigits * a.groups)
	mark := strings.Repeat("\u00a0", column+column/groupDigits) + fmt.Sprintf("^ digit %d is the first that differs",
		at+1)
	return strings.Join(slices.Insert(lines, row+1, mark), "\n")
}

// CheckLine shows the result of one of several checks.
func (v *Screen) CheckLine(path string, r check.Report, err error) {
	mark, style, text := "error", bad, ""
	switch {
	case err != nil:
		text = ProblemSentence(err)
	case r.Outcome() == check.Matched && r.Copy != nil && !r.Copy.Whole():
		mark, style, text = "caution", caution, CopyGaps(FileName(path), r.Copy)
	case r.SignedBy() != nil && r.Outcome() == check.Matched:
		mark, style, text = "signed", good, fmt.Sprintf("%s: as published, signed by %s", word(path),
			word(r.SignedBy().Key.Owner))
	case r.Outcome() == check.Matched:
		mark, style, text = "good", good, CheckSentence(r)
	case r.Outcome() == check.NothingPublished:
		mark, style, text = "unknown", caution, CheckSentence(r)
	default:
		mark, text = "wrong", CheckSentence(r)
	}
	if err == nil { // of files in several folders, the path tells them apart
		text = strings.Replace(text, FileName(path), word(path), 1)
	}
	const column = len("unknown  ")
	indent := strings.Repeat(" ", column)
	fmt.Fprintln(v.Out, style.Render(mark)+indent[len(mark):]+fold(text, v.width-column, indent))
}

// SummarySentence sums up the check of several images.
func SummarySentence(checked, right, wrong int) string {
	return fmt.Sprintf("%s checked: %d as published, %d not, %d with nothing to compare.", Count(checked, "image"),
		right, wrong, checked-right-wrong)
}

// Summary shows the sum of the check of several images; fine says that none is wrong.
func (v *Screen) Summary(sentence string, fine bool) {
	style := lipgloss.NewStyle()
	if !fine {
		style = bad
	}
	fmt.Fprintln(v.Out, styled(style, fold(sentence, v.width, "")))
}
