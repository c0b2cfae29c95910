package view

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/fetch"
	"zipstamp/internal/image"
	"zipstamp/internal/loose"
	"zipstamp/internal/shell"
	"zipstamp/internal/stamp"
)

// ErrInterrupted is the cause of the end of a job that the user stopped.
var ErrInterrupted = errors.New("interrupted")

// Problem shows an error: what happened, to what, and what to do next. again is the command line as it was
// typed, for advice that repeats it.
func (v *Screen) Problem(err error, again []string) {
	fmt.Fprintln(v.Err, bad.Render("zipstamp: ")+fold(ProblemSentence(err), v.errWidth-len("zipstamp: "), ""))
	if next := nextStep(err, v.here, again); next != "" {
		fmt.Fprintln(v.Err, fold("Next: "+word(next), v.errWidth-len("Next: "), "      "))
	}
}

// ProblemSentence is an error in one sentence.
func ProblemSentence(err error) string { return strings.TrimRight(word(ErrorText(err)), ".") + "." }

// ErrorText is an error in words: errors of the core that have a type of their own are put into words here, wherever
// they stand in it.
func ErrorText(err error) string {
	var tooSmall *stamp.TooSmallError
	var damage *image.DamageError
	text := err.Error()
	switch {
	case errors.As(err, &tooSmall):
		return tooSmallClause(cmp.Or(tooSmall.Name, "the card"), tooSmall)
	case errors.As(err, &damage):
		return damageClause(damage)
	case errors.Is(err, ErrInterrupted):
		return "interrupted"
	}
	text = reword(text, err, smallText)
	text = reword(text, err, roomText)
	text = reword(text, err, fileText)
	text = reword(text, err, wrongClause)
	text = reword(text, err, func(e *loose.Error) string { return FileName(e.Path) + " " + looseClause(e) })
	text = reword(text, err, NotBackText)
	text = reword(text, err, refusedText)
	text = reword(text, err, leaveText)
	text = reword(text, err, func(e *image.UnusableError) string { return FileName(e.Path) + " " + unusableClause(e) })
	text = reword(text, err, noFileText)
	text = reword(text, err, FetchText)
	return reword(text, err, func(e *fs.PathError) string {
		if errors.Is(err, fs.ErrNotExist) {
			return "there is no file " + e.Path
		}
		return e.Path + ": " + e.Err.Error()
	})
}

// reword puts an error of a type, where it is in a chain, into words; text is that of the chain.
func reword[E error](text string, err error, words func(E) string) string {
	var e E
	if !errors.As(err, &e) {
		return text
	}
	return strings.Replace(text, e.Error(), words(e), 1)
}

// noFileText says why what was named can't be an image.
func noFileText(e *image.OpenError) string {
	switch e.Why {
	case image.Folder:
		return e.Path + " is a folder; an image is one file"
	case image.NoStream:
		return "the standard input is a terminal or device; an image comes through a pipe or from a file"
	case image.NoBytes:
		if e.Path != image.Input {
			return FileName(e.Path) + " is empty"
		}
		return "nothing came in by the standard input"
	}
	return e.Path + " is not a file; an image is one file, and is named before the card"
}

// leaveText says what could not be done when a card was let go.
func leaveText(e *card.LeaveError) string {
	why := e.Err.Error()
	if e.Other != "" {
		why = "the same reader holds " + e.Other
	}
	switch e.Step {
	case card.TableRead:
		return fmt.Sprintf("this computer goes by the old partition table of %s until it is put in again: %s", e.Card,
			why)
	case card.Ejecting:
		return fmt.Sprintf("%s could not be ejected: %s", e.Card, why)
	case card.PowerOff:
		return fmt.Sprintf("the power of %s could not be turned off: %s", e.Card, why)
	}
	return fmt.Sprintf("%s could not be closed: %s", e.Card, why)
}

// Hint is an error with advice of its own.
type Hint struct {
	Err  error
	Next string
}

func (h *Hint) Error() string { return h.Err.Error() }

func (h *Hint) Unwrap() error { return h.Err }

// NextStep is what to do about an error; empty if there is nothing to say. again is the command line as it was typed.
func (v *Screen) NextStep(err error, again []string) string {
	return strings.ReplaceAll(nextStep(err, v.here, again), unbroken, " ")
}

func nextStep(err error, here card.Local, again []string) string {
	var hint *Hint
	var refused *card.RefusedError
	var own *Refusal
	var unusable *image.UnusableError
	var choice *image.ChoiceError
	var files *loose.Error
	var open *image.OpenError
	var fetched *fetch.Error
	switch {
	case errors.As(err, &hint):
		return hint.Next
	case errors.As(err, &fetched):
		return fetchNext(fetched, again)
	case errors.As(err, &own) && own.Next != "":
		return own.Next
	case errors.As(err, &own) && errors.Is(err, fs.ErrPermission):
		return reasonNext(guard.Reason{Cause: guard.NoRights}, here, again)
	case errors.As(err, &refused):
		return reasonNext(refused.Why[0], here, again)
	case errors.As(err, &unusable):
		return unusableNext(unusable)
	case errors.As(err, &choice) && len(choice.Members) > 0:
		return "choose one: " + shell.Command(shell.With(again, "--member", choice.Members[0])...)
	case errors.As(err, &files):
		return looseNext(files)
	case errors.As(err, &open) && open.Why == image.Folder:
		return "to make a FAT card with the files in it: zipstamp blank CARD --with " + shell.File(open.Path)
	case errors.As(err, new(*image.DamageError)):
		return "download it again"
	}
	return ""
}

// program is the full path of this program, since another user's shell may not look where this one does.
func program(called string) string {
	if path, err := os.Executable(); err == nil {
		return path
	}
	return called
}
