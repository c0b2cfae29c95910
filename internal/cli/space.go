package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/document"
	"zipstamp/internal/gauge/space"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

func (a *app) gaugeSpace() *cobra.Command {
	s := &spacing{record: record{app: a}}
	cmd := a.command("gauge space", 1, 1, func(cmd *cobra.Command, args []string) error {
		return s.run(cmd.Context(), args[0])
	})
	f := cmd.Flags()
	s.first.flag(f)
	f.BoolVar(&s.keep, "keep", false, "")
	f.BoolVar(&s.again, "again", false, "")
	f.BoolVar(&s.remove, "remove", false, "")
	if !a.streams.Here.OnlyCards {
		f.BoolVar(&s.fixedDisk, "fixed-disk", false, "")
	}
	receiptFlag(f, &s.receipt)
	return cmd
}

// spacing is a run of gauge space.
type spacing struct {
	record
	first               first
	receipt             string
	keep, again, remove bool
	fixedDisk           bool
	present             func() bool // whether the disk below is still there; nil: not known
}

func (s *spacing) run(ctx context.Context, folder string) error {
	if folder != "" && filepath.VolumeName(folder) == folder { // E: would be where a program has been on that drive
		folder += string(filepath.Separator)
	}
	if err := s.begin(nil); err != nil {
		return err
	}
	if n := count(s.keep, s.again, s.remove); n > 1 {
		return &usageError{view.ErrKeepOrAgain}
	}
	c, err := s.admitFolder(folder)
	if err != nil {
		return err
	}
	if s.remove {
		removed, err := space.RemoveFiles(folder)
		if err != nil {
			return err
		}
		s.removed(folder, removed)
		return nil
	}
	first, err := s.first.bytes()
	if err != nil {
		return err
	}
	if err := s.reserve(s.receipt, receipt.JobSpace, c); err != nil {
		return err
	}
	defer s.discard()
	var m meter.Meter
	shown := s.screen.Follow(view.Followed{Meter: &m})
	rep, failed := space.Test{
		Folder: folder, Meter: &m, Nonce: randomNonce(), First: first, Keep: s.keep, Again: s.again, Present: s.present,
	}.Run(ctx)
	m.End()
	shown.Stop()
	if rep.Written+rep.Read == 0 && failed != nil {
		return spaceProblem(folder, failed)
	}
	doc := receipt.NewGauge(receipt.JobSpace, c, rep)
	sentence := view.SpaceSentence(folder, rep, failed)
	if s.keep && failed == nil && !s.json {
		defer s.screen.Say(view.FilesKept(filepath.Join(folder, space.FolderName)))
	}
	return s.conclude(doc, sentence, failed, gaugeResult(&doc, rep, sentence, failed))
}

func count(flags ...bool) (n int) {
	for _, f := range flags {
		if f {
			n++
		}
	}
	return n
}

// removed says what was removed.
func (s *spacing) removed(folder string, n int) {
	if s.json {
		s.printJSON(struct {
			document.Head
			Files  int    `json:"files"`
			Folder string `json:"folder"`
		}{document.New(document.Removed, statusGood, view.RemovedSentence(folder, n)), n, folder})
		return
	}
	s.screen.Removed(folder, n)
}

// admitFolder refuses a folder whose free space is not that of a card, and tells what it is on.
func (s *spacing) admitFolder(folder string) (*card.Card, error) {
	info, err := os.Stat(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, view.NoFolder(folder)
	}
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, view.NotAFolder(folder)
	}
	c, at, err := s.finder.Under(folder)
	if err != nil && !errors.Is(err, errors.ErrUnsupported) { // where it can't be told, the user knows
		return nil, err
	}
	s.present = at.Present
	here := s.streams.Here
	unknown := &card.Card{Given: folder, Path: folder, Name: filepath.Base(folder), Kind: card.Folder}
	switch {
	case at.Network:
		return nil, view.OnNetwork(folder, at.Kind)
	case at.NoDisk:
		return nil, view.OnNoDisk(folder, at.Kind)
	case c == nil && !s.fixedDisk && (at.Kind != "" || here.OnlyCards):
		return nil, view.DiskUnknown(folder, at.Kind, here)
	case c == nil:
		return unknown, nil
	}
	d := c.Disk
	isCard := d.IsCardLike() || d.Bus == disks.USB
	if (!isCard || len(d.System) > 0) && !s.fixedDisk {
		return nil, view.OnOtherDisk(folder, d.Path, here)
	}
	c.Given = folder
	return c, nil
}

// spaceProblem is the error of a test that could not begin.
func spaceProblem(folder string, err error) error {
	own := filepath.Join(folder, space.FolderName)
	switch {
	case errors.Is(err, space.ErrKept):
		return &usageError{view.EarlierFiles(own)}
	case errors.Is(err, space.ErrNothing):
		return &usageError{view.NoEarlierFiles(folder)}
	case errors.Is(err, space.ErrNoRoom):
		return view.NoFreeSpace(folder, err)
	case errors.Is(err, fs.ErrPermission):
		return view.NoRightToWrite(folder, err)
	case errors.Is(fault.Of(err), fault.Locked):
		return view.ReadOnlyFolder(folder, err)
	case errors.Is(err, space.ErrUnknown):
		return view.UnknownFiles(own, err)
	}
	return err
}
