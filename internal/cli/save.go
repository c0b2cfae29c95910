package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/document"
	"zipstamp/internal/image"
	"zipstamp/internal/job"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/save"
	"zipstamp/internal/state"
	"zipstamp/internal/view"
)

func (a *app) save() *cobra.Command {
	s := &saving{onCard: a.onCard()}
	cmd := a.command("save", 1, 2, func(cmd *cobra.Command, args []string) error { return s.run(cmd.Context(), args) })
	f := cmd.Flags()
	s.flags(f, a.streams.Here)
	f.BoolVar(&s.copy.zeros, "free-as-zeros", false, "")
	return cmd
}

// saving is a run of save.
type saving struct {
	onCard
	copy copying
}

// copying is a copy of a card in a file.
type copying struct {
	path   string
	zeros  bool
	format save.Format
	image  string // what the image in the file is called
	carry  *save.Progress
}

// Endings of what is there before a copy is whole.
const (
	partEnding     = ".part"
	progressEnding = ".part.json"
)

// maxProgress bounds the file with the progress of a copy, bytes: it has the digests of a card's pieces.
const maxProgress = 32 << 20

// kept is the progress of a copy, with the card that it is of.
type keptCopy struct {
	Card card.Record `json:"card"`
	save.Progress
}

func (s *saving) run(ctx context.Context, args []string) error {
	last := len(args) - 1
	if _, _, ok := save.FormatOf(args[last]); last == 0 && !ok {
		return &usageError{view.OnlyCard(args[0])}
	}
	if len(args) == 2 {
		if _, _, ok := save.FormatOf(args[1]); !ok && !exists(args[1]) {
			return &usageError{view.NoCopyFormat(args[1])}
		} else if _, _, first := save.FormatOf(args[0]); first && !ok {
			return &usageError{
				view.WrongOrder(view.CardBeforeFile, args[1], view.DidYouMean(s.exchanged(args[0], args[1]))),
			}
		}
	}
	s.copy.path = args[last]
	return s.do(ctx, args[:last], job.One{Kind: job.Save, Run: s.read, Fits: func(c *card.Card) (string, error) {
		return view.ThenSave(s.copy.path), s.copy.prepare(c)
	}})
}

// read reads the card into the file.
func (s *saving) read(ctx context.Context, t *job.Target) (job.Ended, error) {
	if s.copy.carry != nil {
		s.screen.Say(view.CopyCarriesOn(s.copy.path, s.copy.carry.Read, s.copy.carry.End))
	}
	unfollow := s.follow(t, "", view.SaveLeft(t.Card.Name))
	r, failed := s.copy.run(ctx, s.who, t.Hold, t.Card, &s.meter)
	unfollow()
	now := t.Hold.Card()
	e := job.Ended{
		Receipt: receipt.NewSave(now, t.Hold, s.who.short(absolute(s.copy.path)), string(s.copy.format), r),
		Failed:  failed, Result: failed, Sentence: view.SaveSentence(now.Name, s.copy.path, r, failed),
	}
	e.Receipt.Verdict = verdictOf(failed)
	if lost := append(slices.Clone(r.Unread), r.Unsteady...); failed == nil && len(lost) > 0 {
		e.Receipt.Verdict = receipt.Incomplete
		e.Result = &card.IOError{
			Op: "read", Card: now.Name, Offset: lost[0].Offset,
			Err: errors.New("some places could not be read, or not twice the same"),
		}
	}
	if r.Anew {
		s.screen.Say(view.CopyMadeAnew)
	}
	return e, nil
}

func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// prepare checks the place of the copy, and takes up one that was begun.
func (c *copying) prepare(of *card.Card) error {
	var ok bool
	if c.format, c.image, ok = save.FormatOf(c.path); !ok {
		return &usageError{view.NoCopyFormat(c.path)}
	}
	if exists(c.path) {
		return &usageError{view.TakenPath(c.path)}
	}
	if info, err := os.Stat(filepath.Dir(c.path)); err != nil || !info.IsDir() {
		return &usageError{view.NoFolderForCopy(filepath.Dir(c.path))}
	}
	if err := of.Apart(view.TheCopy, filepath.Dir(absolute(c.path))); err != nil {
		return err
	}
	text, err := state.ReadFile(c.path+progressEnding, maxProgress)
	if errors.Is(err, fs.ErrNotExist) {
		if exists(c.path + partEnding) {
			return &usageError{view.TakenPath(c.path + partEnding)}
		}
		return nil
	}
	var kept keptCopy
	if err == nil {
		err = json.Unmarshal(text, &kept)
	}
	info, gone := os.Stat(c.path + partEnding)
	switch {
	case err != nil:
		return &usageError{view.CopyUnusable(c.path+progressEnding, err)}
	case kept.Read == 0: // it came to nothing
		return nil
	case gone != nil || info.Size() < kept.Written || kept.Read < 0 || kept.Written < 0 || kept.End < kept.Read:
		return &usageError{view.CopyUnusable(c.path+progressEnding, save.ErrOtherCard)}
	case kept.Card.Like(of.Record()) == card.Different || kept.Format != c.format || kept.Zeros != c.zeros:
		return &usageError{view.OtherCopy(c.path + partEnding)}
	}
	c.carry = &kept.Progress
	return nil
}

// run makes the copy, reads it again, and gives it its name.
func (c *copying) run(
	ctx context.Context, who person, hold *card.Hold, of *card.Card, m *meter.Meter,
) (r save.Result, err error) {
	folder := who.folder(filepath.Dir(absolute(c.path)))
	progress := filepath.Base(c.path) + progressEnding
	record := of.Record()
	keep := func(p save.Progress) error {
		text, err := json.Marshal(keptCopy{record, p})
		if err != nil {
			return err
		}
		return who.as(func() error { return folder.Write(progress, text) })
	}
	if c.carry == nil { // what is begun is known as ours
		if err := keep(save.Progress{Format: c.format, Zeros: c.zeros}); err != nil {
			return r, &save.WriteError{Err: err}
		}
	}
	var out *os.File
	err = who.as(func() (err error) {
		if c.carry != nil {
			out, err = os.OpenFile(c.path+partEnding, os.O_RDWR, 0)
			return err
		}
		if err := os.Remove(c.path + partEnding); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err // of a run that came to nothing
		}
		out, err = os.OpenFile(c.path+partEnding, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
		return err
	})
	if err != nil {
		return r, &save.WriteError{Err: err}
	}
	job := save.Job{
		Device: hold, Meter: m, Out: out, Format: c.format, FreeAsZeros: c.zeros, Carry: c.carry,
		Keep: keep,
	}
	r, err = job.Run(ctx)
	if closing := out.Close(); err == nil && closing != nil { // some systems rename nothing that is open
		err = &save.WriteError{Err: closing}
	}
	if err != nil {
		if r.Size == 0 { // there is nothing to carry on
			_ = who.as(func() error {
				return errors.Join(os.Remove(c.path+partEnding), os.Remove(c.path+progressEnding))
			})
		}
		return r, err
	}
	if err := c.compare(ctx, job, &r); err != nil {
		return r, err
	}
	return r, who.as(func() error {
		if exists(c.path) { // since it was looked for
			return &save.WriteError{Err: fs.ErrExist}
		}
		if err := c.name(folder, r, record); err != nil {
			return &save.WriteError{Err: err}
		}
		return nil
	})
}

// name gives the copy its name, when what it is of and what is missing in it stand beside it: a copy with gaps must
// never be without that. The sums come last. They are for other programs, and not made where something is missing.
func (c *copying) name(folder state.Place, r save.Result, of card.Record) error {
	folder.Shared = true
	base := filepath.Base(c.path)
	note := check.Copy{
		Version: check.CopyVersion, Made: time.Now().UTC().Truncate(time.Second), Name: base,
		Card: of.Name, Model: of.Model, Serial: of.Serial, SHA256: r.File.Hex(), Image: r.Image.Hex(),
	}
	for _, e := range r.Unread {
		note.Missing += e.Length
	}
	for _, e := range r.Unsteady {
		note.Unsteady += e.Length
	}
	text, err := document.Encode(note)
	if err == nil {
		err = folder.Write(base+check.CopyEnding, text)
	}
	if err == nil {
		err = os.Rename(c.path+partEnding, c.path)
	}
	if err == nil && note.Whole() {
		sums := fmt.Sprintf("%s\n%s  %s\n", digest.CopyNote(of.Name, note.Made), r.File.Hex(), base)
		if c.format != save.Raw {
			sums += fmt.Sprintf("%s  %s\n", r.Image.Hex(), c.image)
		}
		err = folder.Write(base+".sha256", []byte(sums))
	}
	if err != nil {
		return err
	}
	if err := os.Remove(c.path + progressEnding); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// compare reads the file again, and the card beside it: what comes out of it must be what is on the card.
func (c *copying) compare(ctx context.Context, job save.Job, r *save.Result) error {
	f, err := image.Open(c.path + partEnding)
	if err != nil {
		return &save.WriteError{Err: err}
	}
	defer f.Close()
	if c.format == save.Raw { // whatever it begins like
		return job.Compare(ctx, f.Reader(), r)
	}
	anything := f.Anything()
	anything.Limit = r.Size
	contents, err := anything.Look("")
	if err != nil {
		return &save.WriteError{Err: err}
	}
	stream, err := anything.Unpack(contents, nil)
	if err != nil {
		return &save.WriteError{Err: err}
	}
	defer stream.Close()
	return job.Compare(ctx, stream, r)
}
