package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/image"
	"zipstamp/internal/stamp"
	"zipstamp/internal/trust"
)

// What is said while a command runs, and in what state it leaves things when it is ended at once.

// Questions' consequences: what happens to a card once its name has been typed.
const (
	ThenSpots   = "places all over the card are written, and what was there is put back"
	ThenWhole   = "every block is written and read back"
	ThenPace    = "what is there is read, and the same is written again"
	ThenRestore = "what an interrupted test had saved is put back"
)

// UntouchedLeft is the state of things before anything was written.
const UntouchedLeft = "No card was written to."

// CardState is what is being done with one of the cards of a stamp.
type CardState int

// The states of a card.
const (
	NotBegun     CardState = iota // it is as it was
	BeingTried                    // places of it are tried
	BeingStamped                  // it is being written
)

// StampsLeft is the state of cards whose stamp is ended at once, by what is being done with each.
func StampsLeft(cards map[CardState][]string) string {
	var all []string
	say := func(s CardState, format string) {
		if names := cards[s]; len(names) > 0 {
			all = append(all, fmt.Sprintf(format, strings.Join(names, ", ")))
		}
	}
	say(BeingStamped, "The cards being stamped (%s) have no partition table that a board could start from. Stamp them "+
		"again before use.")
	say(BeingTried, "Nothing of the image was written to %s yet. The contents that were saved are kept; to restore "+
		"them: "+
		"zipstamp gauge restore")
	say(NotBegun, "Nothing was written to %s.")
	return strings.Join(all, "\n")
}

// TryLeft is the state of a card that is ended at once while it is copied or tried before a stamp.
func TryLeft(names string) string { return StampsLeft(map[CardState][]string{BeingTried: {names}}) }

// SpotsLeft is the state of a card whose test of places is ended at once.
func SpotsLeft(name string) string {
	return "What was saved from " + name + " is kept; to put it back: zipstamp gauge restore"
}

// WholeLeft is the state of a card whose test of every block is ended at once.
func WholeLeft(name string) string {
	return "Some or all of what was on " + name + " is lost. To carry the test on, run the same command again."
}

// BlankLeft is the state of a card that was to become an empty one.
func BlankLeft(name string) string {
	return name + " has no partition table. Run the same command again."
}

// PaceLeft is the state of a card whose pace was being measured.
func PaceLeft(name string) string {
	return "The contents of " + name + " have not changed: only what was read was written again."
}

// AskedToWait says what is waited for.
func AskedToWait(e *card.RefusedError) string { return "Waiting: " + ErrorText(e) + "." }

// JustReset says that a card that came back is not taken; after is how long it must be out.
func JustReset(name string, after time.Duration) string {
	return fmt.Sprintf("%s is the card that was here a moment ago: perhaps its hub or reader was reset, so it is not "+
		"taken. If it is the one you want, take it out for %d seconds.", name, after/time.Second)
}

// PutInMore asks for more cards.
func PutInMore(n int) string { return fmt.Sprintf("Put in %d more.", n) }

// NothingWritten says that cards are as they were.
func NothingWritten(names string) string { return fmt.Sprintf("Nothing was written to %s.", names) }

// CounterfeitButLarge warns of a card that claims more than it holds, on which the image fits.
func CounterfeitButLarge(name string, real, claimed int64) string {
	return fmt.Sprintf("%s is counterfeit: it holds %s of the %s that it claims. The image fits, so it is stamped "+
		"all the same; but don't rely on it.", name, Bytes(real), Bytes(claimed))
}

// PerhapsCounterfeit warns of a card that may be one that holds less than it claims.
func PerhapsCounterfeit(name, given string, tested time.Time) string {
	return fmt.Sprintf(
		"A test on %s found that a card of this size holds less than it claims. It may have been %s. To test it: %s",
		Day(tested), name, GaugeSpots(given),
	)
}

// FilesKept says where the files of a test of free space stay.
func FilesKept(folder string) string { return fmt.Sprintf("The files are kept in %s.", folder) }

// NotAllBack says that a test could not put back all that it had saved.
func NotAllBack(path string) string {
	return fmt.Sprintf("Some of what was on the card could not be put back; what was saved is kept in %s. Try it in "+
		"another reader: zipstamp gauge restore", path)
}

// NotPutBack says that a test did not come to putting back what it had saved.
func NotPutBack(path string) string {
	return fmt.Sprintf("What was on the card has not been put back; it is kept in %s. When the card is in again, put "+
		"it back with: zipstamp gauge restore", path)
}

// ProgressUnusable says that what is kept of a test can't be used.
func ProgressUnusable(err error) string {
	return fmt.Sprintf("The saved progress of a test can't be used: %s.", ErrorText(err))
}

// Overwritten says that a test can't be carried on since the card was written.
func Overwritten(name string) string {
	return fmt.Sprintf(
		"A test of %s was interrupted, but the card no longer holds what that test wrote; it starts over.", name,
	)
}

// StartsOver says that a test that was interrupted starts over.
func StartsOver(name string, at int64) string {
	return fmt.Sprintf("A test of %s was interrupted at %s; this one starts over.", name, Bytes(at))
}

// WillCarryOn says before a test that one of the card was interrupted, and whether it will be carried on.
func WillCarryOn(name string, when time.Time, at, of int64, reading, afresh bool) string {
	did := "written"
	if reading {
		did = "read back"
	}
	then := "It will be carried on, if the card still holds what it wrote; --afresh starts over."
	if afresh {
		then = "It will be started over."
	}
	return fmt.Sprintf("A test of %s was interrupted on %s, when %s of %s were %s. %s", name, Day(when), Bytes(at),
		Bytes(of),
		did, then)
}

// CarriesOn says from where a test is carried on.
func CarriesOn(name string, at int64, reading bool) string {
	what := "writing"
	if reading {
		what = "reading back"
	}
	return fmt.Sprintf("A test of %s was interrupted. What it wrote is read first; then it is carried on from %s, %s.",
		name, Bytes(at), what)
}

// EarlierTest says what became of what an earlier test had saved.
func EarlierTest(name, fate string) string {
	return fmt.Sprintf("An earlier test of %s was interrupted: %s.", name, fate)
}

// NotYetBack says that what a test had saved is still to be put back.
func NotYetBack(name string, begun time.Time) string {
	return fmt.Sprintf("A test of %s was interrupted on %s, and what it had saved of the card has not been put back.",
		name, Day(begun))
}

// DeletedWhenOverwritten says what becomes of what a test had saved when the card is overwritten.
const DeletedWhenOverwritten = "The saved data is deleted when the card is overwritten."

// PutBackFirst is the question whether it is to be put back.
const PutBackFirst = "Put it back first?"

// CardFate says what became of what was saved of a card.
func CardFate(name, fate string) string { return name + ": " + fate + "." }

// FateText is what became of a journal, as a clause; empty if nothing was tried.
func FateText(f journal.Fate) string {
	switch f.What {
	case journal.PutBack:
		return "put back " + english.Plural(f.Sectors, "sector", "")
	case journal.WasBack:
		return "everything was back already"
	case journal.LooksBack:
		return "the card holds what was saved; the saved data is kept, since it may be of another card with the same " +
			"contents (delete it: zipstamp gauge restore --forget CARD)"
	case journal.Deleted:
		return "deleted"
	case journal.WouldPutBack, journal.WouldDelete:
		return string(f.What)
	case journal.StillValid:
		return "kept, since it can still be used; name its card to delete it"
	}
	return ""
}

// NotBackText says what of a card could not be put back, as a clause.
func NotBackText(e *journal.NotBackError) string {
	sectors := func(n int) string { return english.Plural(n, "sector", "") }
	switch {
	case e.Torn > 0:
		return fmt.Sprintf("put back %s; what was saved of %d more is damaged, and can't be put back",
			sectors(e.Restored), e.Torn)
	case e.Unread > 0:
		return fmt.Sprintf("%s to be put back can't be read; what belongs there stays saved", sectors(e.Unread))
	case e.Other > 0:
		return fmt.Sprintf("everything is as it was except %s: what was there did not come back, or something was "+
			"written since; the saved data is kept", sectors(e.Other))
	}
	return fmt.Sprintf("put back %s; %d did not take it, and what belongs there stays saved", sectors(e.Restored),
		e.Wrong)
}

const deleteSaved = "zipstamp gauge restore --forget CARD"

// NotBack adds to a journal.NotBackError what to do.
func NotBack(err error) error {
	return &Hint{Err: err, Next: "try it in another reader; or delete the saved data: " + deleteSaved}
}

// OtherCard is the refusal of a card that is not the one that was tested.
func OtherCard(name string) error {
	return &Refusal{
		Card: name, Err: journal.ErrOtherCard,
		Next: "if the saved data is of no use any more, delete it: " + deleteSaved,
		Why:  "nothing on it shows that it is the card that was tested, or it was written since; nothing was written",
	}
}

// StillTested is the refusal of what a test has saved that goes on.
func StillTested(err error) error {
	return &Refusal{
		Card: "the saved data", Why: "the test that saved it still runs", Next: "wait until it has ended", Err: err,
	}
}

// TestedNotHere is the refusal of what was saved of a card that is not in this computer.
func TestedNotHere(name string) error {
	return &Refusal{
		Card: name, Why: "the card that was tested is not here",
		Next: "put it in and run the command again, or name the card",
	}
}

// SavedUnread is the error of what earlier tests saved that can't be read.
func SavedUnread(err error) error {
	return fmt.Errorf("the data saved by earlier tests can't be read, so nothing was started: %w", err)
}

// CantSave is the error of a folder in which nothing can be saved of a card; started says that the test went on.
func CantSave(folder string, started bool, err error) error {
	so := ", so nothing was started"
	if started {
		so = ""
	}
	return hinted("check that the folder can be written and has a few MB of room; the variable XDG_STATE_HOME gives "+
		"another one",
		"what is on the card can't be saved in %s%s: %w", folder, so, err)
}

// What a recheck says of a card that was begun to be written, before it reads it.

// StampUnfinished says that a stamp was interrupted.
func StampUnfinished(name string, m stamp.Mark) string {
	return fmt.Sprintf("%s has no partition table: %s. To carry it on, stamp the card again.", name,
		unfinishedClause(m))
}

// unfinishedClause says of a stamp that it did not come to its end; of some it isn't known of what and when.
func unfinishedClause(m stamp.Mark) string {
	what := "a stamp"
	if m.Name != "" && m.Name != image.Input {
		what += " of " + FileName(m.Name)
	}
	if !m.Started.IsZero() {
		what += ", begun on " + m.Started.Local().Format("2 January 2006 at 15:04") + ","
	}
	return what + " did not come to its end"
}

// TestUnfinished says that what a test had saved has not been put back.
func TestUnfinished(name string) string {
	return fmt.Sprintf(
		"A test of %s was interrupted, and what it had saved of the card has not been put back: zipstamp gauge restore",
		name,
	)
}

// WholeUnfinished says that a test that overwrites the card did not come to its end.
func WholeUnfinished(name string, on time.Time) string {
	return fmt.Sprintf("A test of every block of %s, on %s, did not come to its end; it overwrites the card.", name,
		Day(on))
}

// JobUnfinished says that a job did not come to its end.
func JobUnfinished(job, name string, on time.Time) string {
	return fmt.Sprintf("The last %s of %s, on %s, did not come to its end.", job, name, Day(on))
}

// CheckProblems are the findings of a check that explain its result, each a clause.
func CheckProblems(r check.Report) []string {
	var out []string
	for _, w := range r.Wrong {
		out = append(out, w.Error())
	}
	for _, u := range r.Unsigned {
		out = append(out, unsignedLines(u))
	}
	for _, s := range r.Slips {
		out = append(out, copiedWrong(s.What))
	}
	if h := r.Unmatched(); h != nil && h.Slip != "" {
		out = append(out, copiedWrong(h.Slip))
	}
	if s := r.BadSignature(); s != nil {
		out = append(out, fmt.Sprintf("the signature %s is %s: %s", s.File, s.Status, s.Why))
	}
	if r.Other.Kind != "" {
		out = append(out, "the file is "+Stranger(r.Other))
	}
	if r.Damage != nil {
		out = append(out, ErrorText(r.Damage))
	}
	if l := r.Lapse(); l != nil {
		out = append(out, strings.TrimRight(Lapsed(l), "."))
	}
	if r.Shortfall > 0 {
		out = append(out, fmt.Sprintf("the file is %d bytes shorter than its partition table says", r.Shortfall))
	}
	return out
}

func unsignedLines(u check.Unsigned) string {
	return fmt.Sprintf("%s has lines outside of what is signed, which are not used: %v", u.File, u.Lines)
}

func copiedWrong(slip string) string { return "the digest given was copied wrong: " + slip }

// LeftOut says that a card of several is not stamped.
func LeftOut(card string, err error) string {
	return fmt.Sprintf("%s is left out: %s.", card, strings.TrimPrefix(ErrorText(err), card+isRefused))
}

// isRefused stands between the name of a card and why it is refused.
const isRefused = " is refused: "

// Lapsed says that the signatures of a download fall behind what is remembered of its address.
func Lapsed(l *check.Lapse) string {
	who := keyOwner(l.Before)
	if l.Now == nil {
		return fmt.Sprintf("What %s had before was signed by %s, and this is not signed: the host may be another "+
			"one's by now, or somebody on the way has changed it.", l.Before.URL, who)
	}
	return fmt.Sprintf("What %s had before was signed by %s on %s, and this was signed on %s: it goes back to "+
		"something older.", l.Before.URL, who, Day(l.Before.Made), Day(l.Now.Made))
}

// LapseRefused refuses a download for that.
func LapseRefused(l *check.Lapse) error {
	return hinted("ask the publisher; to stamp it all the same: --unchecked", "%s",
		strings.TrimRight(Lapsed(l), "."))
}

func keyOwner(p trust.Past) string { return cmp.Or(word(p.Owner), p.Fingerprint) }

// GoWithout says how to stamp an image that was compared with nothing.
const GoWithout = "To stamp it all the same, without a comparison: --unchecked"

// NotHere says which files that were to be checked are not here.
func NotHere(names []string) string {
	if len(names) == 1 {
		return names[0] + " is named there, too, and is not here."
	}
	return fmt.Sprintf("%d files are named there, too, and are not here: %s", len(names), listed(names, 6))
}

// or joins words: a, b or c.
func or(words []string) string { return strings.Replace(and(words), " and ", " or ", 1) }

// and joins words: a, b and c.
func and(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	last := len(words) - 1
	return strings.Join(slices.Clone(words[:last]), ", ") + " and " + words[last]
}
