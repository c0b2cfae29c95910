package view

import (
	"errors"
	"fmt"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/receipt"
	"zipstamp/internal/save"
	"zipstamp/internal/shell"
)

// TheCopy is what must not lie on the card that is copied.
const TheCopy = "the place for the copy"

// CardBeforeFile is the order in which a card and the file of its copy are named.
const CardBeforeFile = "the card comes first, and then the file"

// ThenSave says what will be done.
func ThenSave(path string) string {
	return "it is copied into " + FileName(path) + "; what is on the card stays as it is"
}

// SaveLeft says in what state a copy leaves a card, and the file, that is ended at once.
func SaveLeft(name string) string {
	return fmt.Sprintf("Nothing was written to %s. The same command carries the copy on.", name)
}

// NoCopyFormat says that a file's name doesn't tell how a copy is to be packed.
func NoCopyFormat(path string) error {
	return hinted("end its name in .img.zst, .img.xz, .img.gz or .img",
		"the name of %s doesn't tell how to pack the copy",
		FileName(path))
}

// OnlyCard says that the file to write is missing.
func OnlyCard(card string) error {
	return hinted("name it after the card: "+oneLine(shell.Command("zipstamp", "save", card, "copy.img.zst")),
		"zipstamp save needs the file to write; only %s was given", FileName(card))
}

// NoFolderForCopy says that there is no folder for a copy.
func NoFolderForCopy(folder string) error {
	return fmt.Errorf("there is no folder %s for the copy", folder)
}

// CopyUnusable says that a copy that was begun can't be carried on.
func CopyUnusable(path string, err error) error {
	return hinted("remove it, and begin again", "%s can't be used: %w", path, err)
}

// OtherCopy says that a copy was begun of another card, or in another way.
func OtherCopy(path string) error {
	return hinted("put that card in, or remove the file, or choose another name",
		"%s is the beginning of a copy of another card, or of one that was to be packed in another way", path)
}

// CopyCarriesOn says from where a copy is carried on.
func CopyCarriesOn(path string, at, of int64) string {
	return fmt.Sprintf("A copy into %s was interrupted; it is carried on from %s of %s.", FileName(path), Bytes(at),
		Bytes(of))
}

// CopyMadeAnew says that an interrupted copy was of no use.
const CopyMadeAnew = "The card has changed since the copy was begun, so all of it was copied again from the start."

// SaveSentence is the answer of copying a card. err is why it failed; nil if it did not.
func SaveSentence(name, path string, r save.Result, err error) string {
	name, path = word(name), FileName(path)
	var lost int64
	for _, e := range r.Unread {
		lost += e.Length
	}
	var unsteady int64
	for _, e := range r.Unsteady {
		unsteady += e.Length
	}
	var write *save.WriteError
	switch {
	case err == nil && unsteady > 0:
		return fmt.Sprintf("%s is saved in %s, but %s of it did not read the same twice, so the copy may be wrong "+
			"there.", name, path, Bytes(lost+unsteady))
	case err == nil && lost > 0:
		return fmt.Sprintf("%s is saved in %s, but %s of it could not be read and are zeros there.", name, path,
			Bytes(lost))
	case err == nil:
		return fmt.Sprintf("%s is saved: %s of it are in %s, and read the same a second time.", name,
			Bytes(r.Size), path)
	case errors.Is(err, ErrInterrupted):
		return fmt.Sprintf("%s is not saved: it was interrupted. The same command carries it on.", name)
	case errors.As(err, new(*card.GoneError)):
		return fmt.Sprintf("%s is not saved: it was pulled out, or its reader was. The same command carries it on.",
			name)
	case errors.Is(err, save.ErrOtherCard):
		return fmt.Sprintf(
			"%s is not saved: the copy that was begun is of another card, or the card was written since.", name,
		)
	case errors.As(err, &write):
		return fmt.Sprintf("%s is not saved: the file can't be written (%v). The same command carries it on.", name,
			write.Err)
	}
	return fmt.Sprintf("%s is not saved: %s. The same command carries it on.", name, gaugeFailure(name, err))
}

// NotSavedFirst is the error of a card that was to be copied before it is overwritten, and was not: sentence says why.
func NotSavedFirst(sentence string, err error) error {
	return &NotSavedError{strings.TrimRight(sentence, ".") + "; nothing was written to it", err}
}

// NotSavedError says that a card was not overwritten since it could not be copied.
type NotSavedError struct {
	Sentence string
	Err      error
}

func (e *NotSavedError) Error() string { return e.Sentence }

func (e *NotSavedError) Unwrap() error { return e.Err }

// saveFacts are the facts of a copy.
func saveFacts(a *answer, doc receipt.Document) {
	s := doc.Save
	a.add("card", "%s, %s, %s", doc.Card.Name, exact(doc.Card.Size), cardKind(doc.Card))
	a.add("file", "%s", oneLine(s.File)+", "+exact(s.Packed)+", "+s.Format)
	a.add("image", "%s", exact(s.Size))
	if s.LeftOut > 0 {
		a.add("left out", "%s behind the last partition", exact(s.LeftOut))
	}
	if s.Zeroed > 0 {
		a.add("free space", "%s are zeros in the image", exact(s.Zeroed))
	}
	if s.Kept != "" {
		a.add("kept", "the free space of a file system: %s", s.Kept)
	}
	a.add("SHA-256", "%s", s.SHA256)
	if s.Unread.Count > 0 {
		a.add("not read", "%s", unreadFact(s.Unread))
	}
	if s.Unsteady != nil {
		a.add("unsteady", "%s", unreadFact(*s.Unsteady))
	}
	phaseFacts(a, doc)
	a.add("forgiven", "%s", mishapsFact(doc.Mishaps))
	a.add("let go", "%s", letGoFact(doc))
}

// unreadFact lists the places that could not be read.
func unreadFact(e receipt.Extents) string {
	text := Count(int64(e.Count), "place") + ":"
	for i, one := range e.List {
		if i == shownExtents {
			return text + fmt.Sprintf("\nand %d more", e.Count-i)
		}
		text += fmt.Sprintf("\n%s from byte %s", exact(one.Length), place(one.Offset))
	}
	return text
}

func saveNotes(a *answer, doc receipt.Document) {
	if doc.Verdict == receipt.Good || doc.Verdict == receipt.Incomplete {
		command := []string{"zipstamp", "stamp", doc.Save.File, "CARD"}
		if doc.Verdict == receipt.Incomplete {
			command = append(command, "--incomplete")
		}
		a.note("To put it on a card again: %s", oneLine(shell.Command(command...)))
	}
	if doc.Save.Unread.Count > 0 || doc.Save.Unsteady != nil {
		a.note("Try again with another reader: what one can't read, another sometimes can.")
	}
}
