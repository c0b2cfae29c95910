package cli

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"time"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/job"
	"zipstamp/internal/layout"
	"zipstamp/internal/loose"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// filesLoad is a file system with loose files, which come as an archive or a folder.
type filesLoad struct {
	path, within string
	wanted       wantedFS
	realSize     bool

	ids   wantedIDs
	s     *stamping
	set   *loose.Set
	cards map[*target]*fitted
	same  map[string]*loose.Card // by size, sector and label: cards that start with the same bytes
}

// fitted is the file system on a card.
type fitted struct {
	*loose.Card
	realSize int64 // what is used of the card, bytes; 0: all
}

func (l *filesLoad) kind() job.Kind { return job.Blank }

func (l *filesLoad) named() string { return view.FilesIn(l.set.Path) }

func (l *filesLoad) open(_ context.Context, s *stamping) (err error) {
	l.s, l.cards, l.same = s, map[*target]*fitted{}, map[string]*loose.Card{}
	l.ids = newIDs()
	if info, err := os.Stat(l.path); err == nil && info.IsDir() {
		if s.o.isGiven() {
			return &usageError{view.FolderHasNoDigest(l.path)}
		}
		return nil
	}
	if err := s.notSums(l.path); err != nil {
		return err
	}
	s.o.apart = true
	s.image, s.found, err = s.o.find(l.path, s.who)
	return err
}

func (l *filesLoad) look(ctx context.Context, s *stamping, _ int64) (err error) {
	if s.image == nil {
		for _, t := range s.targets {
			if err := t.Card.Apart(view.TheFiles, l.path); err != nil {
				return err
			}
		}
		l.set, err = loose.OfFolder(l.path, l.within)
	} else if member, is := s.image.HoldsDisk(); is {
		return &loose.Error{Path: l.path, Why: loose.HoldsOne, Name: member}
	} else {
		l.set, err = l.list(ctx, s)
	}
	if err != nil {
		return err
	}
	// what no card can hold is no matter of its size
	_, err = blank.Wanted{FileSystem: layout.FAT32Kind, Files: l.set.Files}.For(layout.MostSectors*512, 512)
	return err
}

// list goes through the archive, and shows how far it has come.
func (l *filesLoad) list(ctx context.Context, s *stamping) (*loose.Set, error) {
	if s.image.HasDirectory() { // it is done in no time
		return loose.OfArchive(ctx, s.image, l.within, nil)
	}
	var m meter.Meter
	m.Begin(meter.List, s.image.Size)
	progress := s.screen.Follow(view.Followed{Meter: &m})
	defer progress.Stop()
	defer m.End()
	return loose.OfArchive(ctx, s.image, l.within, &m)
}

func (l *filesLoad) fit(t *target) error {
	realSize, err := l.s.usable(t.Card, l.realSize)
	if err != nil {
		return err
	}
	size, sector := t.Card.Size, max(t.Card.SectorSize, 512)
	if realSize > 0 {
		size = min(size, realSize)
	}
	key := fmt.Sprint(size, " ", sector)
	if l.same[key] == nil {
		plan, err := l.wanted.plan(size, sector, l.set.Files, l.ids)
		if err != nil {
			return err
		}
		l.same[key] = &loose.Card{Set: l.set, Plan: plan}
	}
	l.cards[t] = &fitted{l.same[key], realSize}
	return nil
}

// need is all of the file system: what lies beyond the files is promised too.
func (l *filesLoad) need(t *target) int64 {
	p := l.cards[t].Plan
	return p.Start + p.Size
}

func (l *filesLoad) knownFake(t *target) bool { return l.cards[t].realSize > 0 }

func (l *filesLoad) show(p *view.Plan) {
	p.Files = l.set
	for _, t := range l.s.left() {
		c := l.cards[t]
		p.Then = view.ThenFiles(len(l.s.left()), c.Plan.Kind(), c.Plan.Label, c.realSize)
		return
	}
}

// check compares the archive with what was published. What is in it is no image, so that only the file can be compared.
func (l *filesLoad) check(ctx context.Context, s *stamping, m *meter.Meter) (check.Report, error) {
	if s.image == nil || s.found.Nothing() {
		return check.Report{Path: l.path, Size: l.from().Size, Packing: l.set.Packing}, nil
	}
	report, err := check.Run(ctx, s.image, "", s.found, m)
	report.NoImage, report.Damage = nil, nil // it was gone through
	return report, err
}

func (l *filesLoad) from() receipt.From {
	if l.s.image != nil {
		return receipt.FromFile(l.s.image)
	}
	return receipt.From{Path: l.path, Size: l.set.Bytes}
}

func (l *filesLoad) source(t *target) stamp.Source { return l.cards[t].Card }

func (l *filesLoad) complete(job *stamp.Job, _ *check.Report) {
	job.Inspect = job.Source.(*loose.Card).Inspect
}

func (l *filesLoad) device(t *target) card.Device {
	if real := l.cards[t].realSize; real > 0 {
		return card.UpTo(t.Hold, real)
	}
	return t.Hold
}

func (l *filesLoad) record(
	t *target, report check.Report, o stamp.Outcome, now *card.Card, dev card.Device,
) receipt.Document {
	doc := receipt.New(l.from(), report, now, dev, l.s.set.repairs, o.Result)
	var read int64
	for _, p := range o.Phases {
		if p.Phase == meter.Files {
			read = p.Bytes
		}
	}
	if c := l.cards[t]; c != nil {
		doc.AddFiles(l.set, c.Plan, c.realSize, read)
	} else {
		doc.AddFiles(l.set, nil, 0, 0)
	}
	if isOn(o) {
		describe(t, &doc)
		doc.Card.Beyond = 0 // the file system takes all of it
	}
	return doc
}

func (l *filesLoad) sentence(t *target, name string, o stamp.Outcome) string {
	var plan *blank.Plan
	if c := l.cards[t]; c != nil {
		plan = c.Plan
	}
	return view.FilesSentence(name, l.set, plan, o.Result, o.Err)
}

// wantedFS is the file system that a card is to have.
type wantedFS struct {
	label string
	kind  string // as --file-system has it; empty: by the card's size
}

// The file systems, as they are asked for.
const (
	askFAT32 = "fat32"
	askExFAT = "exfat"
)

// plan lays out a card of which so many bytes are used, with files or empty.
func (w wantedFS) plan(size int64, sector int, files []layout.NewFile, ids wantedIDs) (*blank.Plan, error) {
	wanted := blank.Wanted{
		Disk: ids.disk, Serial: ids.serial, Time: ids.made, Files: files,
		FileSystem: map[string]layout.FSKind{askFAT32: layout.FAT32Kind, askExFAT: layout.ExFATKind}[w.kind],
	}
	if wanted.FileSystem == "" && len(files) == 0 {
		wanted.FileSystem = blank.Kind(size, sector)
	}
	var err error
	if wanted.Label, err = layout.Label(wanted.FileSystem, w.label); err != nil {
		return nil, &usageError{err}
	}
	return wanted.For(size, sector)
}

// wantedIDs are the numbers by which what is made is known, and when it was.
type wantedIDs struct {
	disk, serial uint32
	made         time.Time
}

func newIDs() wantedIDs { return wantedIDs{rand.Uint32(), rand.Uint32(), time.Now()} }
