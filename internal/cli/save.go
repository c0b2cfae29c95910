package cli

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/save"
	"zipstamp/internal/state"
	"zipstamp/internal/view"
)

func (a *app) save() *cobra.Command {
	s := &saving{gauging: &gauging{record: record{app: a}, job: receipt.JobSave, keeps: true}}
	cmd := a.command("save", 1, 2, func(cmd *cobra.Command, args []string) error { return s.run(cmd.Context(), args) })
	f := cmd.Flags()
	s.o.handling.flags(f, a.streams.Here)
	f.BoolVar(&s.copy.zeros, "free-as-zeros", false, "")
	receiptFlag(f, &s.o.receipt)
	return cmd
}

// saving is a run of save.
type saving struct {
	*gauging
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

// kept is the progress of a copy, with the card that it is of.
type keptCopy struct {
	Card card.Record `json:"card"`
	save.Progress
}

func (s *saving) run(ctx context.Context, args []string) (err error) {
	defer s.close()
	last := len(args) - 1
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
	if err := s.prepare(ctx, args[:last]); err != nil {
		return err
	}
	if err := s.copy.prepare(s.card); err != nil {
		return err
	}
	if s.o.dryRun {
		return s.planned(view.ThenSave(s.copy.path))
	}
	if s.asks() && !(s.o.yes && !s.typed) {
		if err := s.confirmCard(ctx, s.card, true, view.ThenSave(s.copy.path)); err != nil {
			return err
		}
	}
	if s.hold, err = s.take(ctx, s.card, s.o.handling, s.typed); err != nil {
		return err
	}
	if err := s.settlePending(); err != nil {
		return err
	}
	if s.copy.carry != nil {
		s.screen.Say(view.CopyCarriesOn(s.copy.path, s.copy.carry.Read, s.copy.carry.End))
	}
	s.follow()
	r, failed := s.copy.run(ctx, s.who, s.hold, s.card, &s.meter)
	s.unfollow()
	now := s.hold.Card()
	doc := receipt.NewSave(now, s.hold, s.who.short(absolute(s.copy.path)), string(s.copy.format), r)
	s.letGo(ctx, &doc, card.Leaving{})
	doc.Verdict = verdictOf(failed)
	result := failed
	if failed == nil && len(r.Unread) > 0 {
		doc.Verdict = receipt.Incomplete
		result = &card.IOError{
			Op: "read", Card: now.Name, Offset: r.Unread[0].Offset, Err: errors.New("some places could not be read"),
		}
	}
	return s.conclude(doc, view.SaveSentence(now.Name, s.copy.path, r, failed), failed, result)
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
	text, err := state.ReadFile(c.path+progressEnding, maxSettings)
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
	start := time.Now()
	if err := c.check(ctx, r, m); err != nil {
		return r, err
	}
	r.Phases = append(r.Phases, meter.PhaseTime{Phase: meter.Check, Bytes: r.Size, Took: time.Since(start)})
	return r, who.as(func() error {
		if exists(c.path) { // since it was looked for
			return &save.WriteError{Err: fs.ErrExist}
		}
		if err := os.Rename(c.path+partEnding, c.path); err != nil {
			return &save.WriteError{Err: err}
		}
		if err := os.Remove(c.path + progressEnding); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return &save.WriteError{Err: err}
		}
		sums := fmt.Sprintf("%s  %s\n", r.File.Hex(), filepath.Base(c.path))
		if c.format != save.Raw {
			sums += fmt.Sprintf("%s  %s\n", r.Image.Hex(), c.image)
		}
		if err := os.WriteFile(c.path+".sha256", []byte(sums), 0o644); err != nil {
			return &save.WriteError{Err: err}
		}
		return nil
	})
}

// check reads the file again: what comes out of it must be what was read of the card.
func (c *copying) check(ctx context.Context, r save.Result, m *meter.Meter) error {
	f, err := image.Open(c.path + partEnding)
	if err != nil {
		return &save.WriteError{Err: err}
	}
	defer f.Close()
	anything := f.Anything()
	anything.Limit = r.Size
	contents, err := anything.Look("")
	if err != nil {
		return &save.WriteError{Err: err}
	}
	if c.format == save.Raw { // whatever it begins like
		return c.same(ctx, f.Reader(), r.Image, m, r.Size)
	}
	stream, err := anything.Unpack(contents, nil)
	if err != nil {
		return &save.WriteError{Err: err}
	}
	defer stream.Close()
	return c.same(ctx, stream, r.Image, m, r.Size)
}

// errChanged says that a copy does not read back as it was written.
var errChanged = errors.New("the copy does not read back as it was written")

func (c *copying) same(ctx context.Context, from io.Reader, want digest.Digest, m *meter.Meter, size int64) error {
	m.Begin(meter.Check, size)
	h := sha256.New()
	buf := make([]byte, 1<<20)
	for {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n, err := from.Read(buf)
		h.Write(buf[:n])
		m.Add(int64(n))
		if err == io.EOF {
			return sameDigest(h, want)
		}
		if err != nil {
			return &save.WriteError{Err: err}
		}
	}
}

func sameDigest(h hash.Hash, want digest.Digest) error {
	if !bytes.Equal(h.Sum(nil), want.Bytes()) {
		return &save.WriteError{Err: errChanged}
	}
	return nil
}
