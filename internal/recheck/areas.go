package recheck

import (
	"cmp"
	"context"
	"crypto/sha256"
	"io"
	"slices"
	"strings"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
)

// Area is a part of the card in which something differs.
type Area struct {
	Place
	Bytes   int64 // that differ in it, or could not be read
	First   int64 // where the first of them is, bytes
	Started bool  // it is what a board changes when it starts from the card, or runs
	Unsure  bool  // it may be that, or damage
	Why     Why   // it is taken for that, or not
}

// Place is what a part of a card is.
type Place struct {
	What      What
	Partition int           // its number; 0: the part is in none
	FS        layout.FSKind // of that partition
	Label     string        // likewise
	Path      string        // of a file or folder
	Inode     int64
	Beside    bool // something else in the same stretch was written, so this may be as it was
}

// What is the kind of a part.
type What string

// The kinds.
const (
	PartitionTable What = "partition table"
	BootCode       What = "boot code"
	Partition      What = "partition" // all of it, or what of it can't be told apart
	File           What = "file"
	Folder         What = "folder"
	Inode          What = "inode" // of a file or folder
	Superblock     What = "superblock"
	Tables         What = "tables"    // of a file system; those of FAT include its folders
	FreeRoom       What = "free room" // in a file system
	Outside        What = "outside"   // of all partitions
)

// Why is the reason why a difference counts as a start's, or not, and what belongs to it.
type Why struct {
	Reason
	When      time.Time // since when a file is written
	Partition int       // what it is about
	Was, Now  layout.Scheme
	Damage    layout.TableDamage
	Detail    string // what the reader of the file system says
}

// Reason is the kind of a reason.
type Reason string

// The reasons. Of those in the first group a start changes something, of the others not, or it can't be told.
const (
	Mounting     Reason = "mounting"      // mounting and writing changes the tables
	NothingThere Reason = "nothing there" // no file is
	SwapSpace    Reason = "swap"
	TableGrown   Reason = "table grown" // only what a first start changes of it
	FSOwn        Reason = "file system's own"
	InodeWritten Reason = "inode written"
	EntryWritten Reason = "entry written"
	WrittenSince Reason = "written since" // the stamp, by the file's own time

	NotByStart     Reason = "not by a start"
	FSUntouched    Reason = "file system untouched" // its superblock is as it was
	TablesAsBefore Reason = "tables untouched"
	InodeAsBefore  Reason = "inode untouched"
	EntryAsBefore  Reason = "entry untouched"
	NotSince       Reason = "not written since"
	NotUsed        Reason = "not used" // since the stamp, by anything on it
	OneBit         Reason = "one bit"  // of a sector differs, which nothing does that writes
	Disagrees      Reason = "tables disagree"
	FoldersAsWere  Reason = "folders untouched"
	BootFile       Reason = "boot file"
	SumWrong       Reason = "checksum wrong"
	NoSuperblock   Reason = "superblock makes no sense"
	SchemeChanged  Reason = "another kind of table"
	PartGone       Reason = "partition gone"
	PartMoved      Reason = "partition moved"
	PartType       Reason = "partition type changed"
	PartLength     Reason = "partition length changed" // and it is not the last
	TableDamaged   Reason = "table damaged"
	StampUnknown   Reason = "time of stamp unknown"

	Opaque       Reason = "can't be told apart" // a board writes to it, and it isn't looked into
	NotUnmounted Reason = "not unmounted"       // so the tables may be behind
	SuperDamaged Reason = "superblock damaged"  // so the rest can't be told apart
	TableUnknown Reason = "earlier table unknown"
	OneStretch   Reason = "in one stretch" // with something that was written
)

// units cuts a stretch that differs into those that have a digest of their own: where something differs that a start
// changes, nothing follows for the others.
func (r *run) units(e layout.Extent) (all []layout.Extent) {
	if r.Image != nil {
		return []layout.Extent{e}
	}
	for at := e.Offset; at < e.End(); {
		unit := r.PartSize
		switch {
		case len(r.Fine[int(at/digest.BlockSize)]) > 0 && r.PartSize == digest.BlockSize:
			unit = digest.HeadPiece
		case len(r.Head) > 0 && at < digest.BlockSize:
			unit = digest.HeadPiece
		case len(r.Head) > 0 && at < r.PartSize:
			unit = digest.BlockSize
		}
		end := min((at/unit+1)*unit, e.End())
		all = append(all, layout.Extent{Offset: at, Length: end - at})
		at = end
	}
	return all
}

// place is a stretch of the card in which one thing is.
type place struct {
	layout.Extent
	Place
	started bool
	unsure  bool
	why     Why
	// compared says that a check has compared it with what it stands for, so that a single bit may have been written
	compared bool
}

// writable are file systems that a running board writes to, and whose contents are not looked into here.
var writable = []layout.FSKind{
	layout.BtrfsKind, layout.F2FSKind, layout.XFSKind, layout.ExFATKind, layout.NTFSKind, layout.LUKSKind,
	layout.BitLocker, layout.LVMKind,
}

// areas names what differs, by what is on the card now.
func (r *run) areas(ctx context.Context) ([]Area, error) {
	whole, err := card.NewReader(r.Device, nil)
	if err != nil {
		return nil, err
	}
	defer whole.Close()
	rd := until{whole, ctx}
	disk, err := layout.Describe(rd, r.Device.Size(), r.Device.SectorSize())
	if err != nil {
		return nil, err
	}
	var differs []layout.Extent
	for _, e := range append(slices.Clone(r.rep.Differs), r.rep.Failed...) {
		differs = append(differs, r.units(e)...)
	}
	places := r.places(rd, disk)
	if ctx.Err() != nil { // they are not all
		return nil, context.Cause(ctx)
	}
	if err := r.identify(disk); err != nil {
		return nil, err
	}
	areas := sum(r.withFlips(places), differs, r.Image == nil)
	for i := range areas {
		free := &areas[i]
		written := slices.ContainsFunc(areas, func(a Area) bool {
			return (a.What == Tables || a.What == Folder) && a.Started && a.Partition == free.Partition
		})
		if free.What == FreeRoom && free.FS.IsFAT() && !written && free.Started {
			free.Started, free.Why = false, Why{Reason: TablesAsBefore}
		}
	}
	return areas, nil
}

// until reads no more once the context has ended: the tables of a large file system take a while.
type until struct {
	io.ReaderAt
	ctx context.Context
}

func (u until) ReadAt(p []byte, off int64) (int, error) {
	if u.ctx.Err() != nil {
		return 0, context.Cause(u.ctx)
	}
	return u.ReaderAt.ReadAt(p, off)
}

// places lists the parts of the card, the most special ones first.
func (r *run) places(rd io.ReaderAt, disk layout.Disk) (all []place) {
	var parts []place
	for _, p := range disk.Parts {
		at := layout.Extent{Offset: p.Start, Length: p.Length}
		in := Place{What: Partition, Partition: p.Number, FS: p.Kind, Label: p.Label}
		add := func(started, unsure bool, why Reason) {
			parts = append(parts, place{Extent: at, Place: in, started: started, unsure: unsure, why: Why{Reason: why}})
		}
		switch {
		case p.Kind.IsFAT():
			all = append(all, r.fatPlaces(rd, at, in)...)
			in.What = FreeRoom
			add(true, false, NothingThere)
		case p.Kind.IsExt():
			all = append(all, r.extPlaces(rd, at, in)...)
		case p.Kind == layout.SwapKind:
			add(true, false, SwapSpace)
		case p.Kind == layout.BtrfsKind && r.Image != nil && !r.differsAt(layout.Extent{
			Offset: p.Start + btrfsSuper, Length: unit,
		}):
			add(false, false, FSUntouched)
		case slices.Contains(writable, p.Kind):
			add(false, true, Opaque)
		default:
			add(false, false, NotByStart)
		}
	}
	all = append(all, parts...)
	if disk.Table.Scheme != layout.NoTable || r.Was.Table != nil && r.Was.Table.Scheme != layout.NoTable {
		all = append([]place{r.tablePlace(rd, disk.Table)}, all...)
	}
	return append(all, place{
		Extent: layout.Extent{Length: r.Device.Size()}, Place: Place{What: Outside}, why: Why{Reason: NotByStart},
	})
}

// btrfsSuper is where the superblock of btrfs is, which is written with every change (Linux,
// Documentation/filesystems/btrfs, "superblock").
const btrfsSuper = 64 << 10

// differsAt tells whether something of a stretch differs, as far as that is known.
func (r *run) differsAt(e layout.Extent) bool {
	return slices.ContainsFunc(r.rep.Differs, func(d layout.Extent) bool {
		return d.Offset < e.End() && e.Offset < d.End()
	})
}

// tablePlace is the partition table, with the boot code before it.
func (r *run) tablePlace(rd io.ReaderAt, now layout.Table) place {
	t := place{Extent: layout.Extent{Length: TableEnd(now)}, Place: Place{What: PartitionTable}}
	boot := make([]byte, layout.BootCode)
	_, err := rd.ReadAt(boot, 0)
	switch {
	case now.Damage.What != "":
		t.why = Why{Reason: TableDamaged, Damage: now.Damage}
	case r.Was.Table == nil:
		t.unsure, t.why.Reason = true, TableUnknown
	case err != nil || sha256.Sum256(boot) != r.Was.Boot:
		t.What, t.why.Reason = BootCode, NotByStart
	default:
		if t.why = tableDiffers(*r.Was.Table, now); t.why == (Why{}) {
			t.started, t.why.Reason = true, TableGrown
		}
	}
	return t
}

// tableDiffers says what of a partition table no start changes; nothing if that is as it was.
func tableDiffers(was, now layout.Table) Why {
	if was.Scheme != now.Scheme {
		return Why{Reason: SchemeChanged, Was: was.Scheme, Now: now.Scheme}
	}
	for _, p := range was.Parts {
		differs := func(how Reason) Why { return Why{Reason: how, Partition: p.Number} }
		i := slices.IndexFunc(now.Parts, func(n layout.Part) bool { return n.Number == p.Number })
		switch {
		case i < 0:
			return differs(PartGone)
		case now.Parts[i].Start != p.Start:
			return differs(PartMoved)
		case !strings.EqualFold(now.Parts[i].ID, p.ID):
			return differs(PartType)
		case now.Parts[i].Length < p.Length, now.Parts[i].Length > p.Length && p.End() < was.End():
			return differs(PartLength)
		}
	}
	return Why{}
}

// extPlaces lists the files and tables of an ext file system, and the rest.
func (r *run) extPlaces(rd io.ReaderAt, at layout.Extent, in Place) (all []place) {
	as := func(what What) Place {
		in.What = what
		return in
	}
	part := io.NewSectionReader(rd, at.Offset, at.Length)
	super := place{
		Extent: layout.Extent{Offset: at.Offset + 1024, Length: 1024}, Place: as(Superblock),
		why: Why{Reason: SumWrong},
	}
	whole := place{Extent: at, Place: as(Partition)}
	v, err := layout.OpenExt(part, at.Length)
	if err != nil {
		whole.why.Reason = NoSuperblock
		return []place{whole}
	}
	add := func(e layout.Extent, p Place, started bool, why Why) {
		e.Offset += at.Offset
		all = append(all, place{Extent: e, Place: p, started: started, why: why})
	}
	mounted := r.differsAt(super.Extent)
	if r.Image == nil {
		changed, known := r.superChanged(rd, at, in.Partition)
		mounted = changed
		if !known && !r.Stamped.IsZero() {
			mounted = r.differsAt(super.Extent) || v.Mounted.After(r.Stamped) || v.Written.After(r.Stamped)
		}
	}
	switch {
	case !v.SumRight:
		whole.unsure, whole.why.Reason = true, SuperDamaged
		return []place{super, whole}
	case !mounted:
		whole.why.Reason = FSUntouched
		return []place{whole}
	}
	nodes, err := v.Nodes() // of a damaged file system, those that were found
	if err != nil {
		whole.unsure, whole.why = true, Why{Reason: Opaque, Detail: err.Error()}
		return []place{whole}
	}
	tableWhy, unsure := Why{Reason: Mounting}, false
	faults, err := v.Check(nodes)
	if err != nil {
		tableWhy, unsure = Why{Reason: NotUnmounted}, true
	}
	elsewhere := "" // what disagrees with something that isn't where it differs
	for _, f := range faults {
		add(f.At, as(Tables), false, Why{Reason: Disagrees, Detail: f.What})
		if !r.differsAt(layout.Extent{Offset: at.Offset + f.At.Offset, Length: f.At.Length}) {
			elsewhere = cmp.Or(elsewhere, f.What)
		}
	}
	if elsewhere != "" && !r.wasFaulty(at, elsewhere) {
		tableWhy = Why{Reason: Disagrees, Detail: elsewhere}
	}
	for _, n := range nodes {
		p := as(File)
		switch {
		case n.Path == "":
			p.What = Inode
		case n.Folder:
			p.What = Folder
		}
		p.Path, p.Inode = n.Path, n.Number
		if !n.SumRight {
			node := p
			node.What = Inode
			add(n.At, node, false, Why{Reason: SumWrong})
		}
		written, why := r.wasWritten(rd, n, at.Offset)
		for _, e := range n.Extents {
			add(e, p, written, why)
		}
	}
	tables, err := v.Metadata()
	if err == nil {
		for _, e := range tables {
			add(e, as(Tables), tableWhy.Reason == Mounting, tableWhy)
			last := &all[len(all)-1]
			last.unsure, last.compared = unsure, !v.IsInodes(e)
		}
	}
	return append(all, place{Extent: at, Place: as(FreeRoom), started: true, why: Why{Reason: NothingThere}})
}

// wasWritten tells whether an inode says that it was written since the card was stamped. Compared with the image, the
// inode itself tells, whatever the board's clock was: its times of writing and changing, its size, or its blocks, but
// not when it was read. Compared with a receipt, its times do.
func (r *run) wasWritten(rd io.ReaderAt, n *layout.ExtNode, start int64) (written bool, why Why) {
	at := layout.Extent{Offset: start + n.At.Offset, Length: n.At.Length}
	switch {
	case n.Journal, n.Own && (r.Image == nil || r.grew(rd, start)): // the others only change with the size
		return true, Why{Reason: FSOwn}
	case r.Image != nil && r.differsAt(at) && r.inodeWritten(rd, at):
		return true, Why{Reason: InodeWritten}
	case r.Image != nil:
		return false, Why{Reason: InodeAsBefore}
	case !r.Stamped.IsZero() && (n.Changed.After(r.Stamped) || n.Made.After(r.Stamped)):
		return true, Why{Reason: WrittenSince, When: n.Changed}
	}
	return false, Why{Reason: NotSince}
}

// grew tells whether an ext file system has another number of blocks than in the image.
func (r *run) grew(rd io.ReaderAt, start int64) bool {
	const blocks = 1024 + 4 // s_blocks_count_lo
	var now, was [4]byte
	_, err := rd.ReadAt(now[:], start+blocks)
	_, err2 := r.was.ReadAt(was[:], start+blocks)
	return err != nil || err2 != nil || now != was
}

// inodeWritten compares an inode on the card with the image's in its place (Linux,
// Documentation/filesystems/ext4/inodes.rst).
func (r *run) inodeWritten(rd io.ReaderAt, at layout.Extent) bool {
	now, was := make([]byte, at.Length), make([]byte, at.Length)
	if _, err := rd.ReadAt(now, at.Offset); err != nil {
		return false
	}
	if _, err := r.was.ReadAt(was, at.Offset); err != nil {
		return true // it is behind the image's end
	}
	for _, field := range [][2]int{
		// mode; size; ctime, mtime; links, blocks, flags; i_block; size
		{0, 2}, {4, 8}, {12, 20}, {26, 36}, {40, 100}, {108, 112},
	} {
		if string(now[field[0]:field[1]]) != string(was[field[0]:field[1]]) {
			return true
		}
	}
	return false
}

// wasFaulty tells whether the image's own file system has a fault; without the image that isn't known, and counts as
// no.
func (r *run) wasFaulty(at layout.Extent, what string) bool {
	if r.Image == nil {
		return false
	}
	v, err := layout.OpenExt(io.NewSectionReader(r.was, at.Offset, at.Length), at.Length)
	if err != nil {
		return true
	}
	nodes, err := v.Nodes()
	if err != nil {
		return true
	}
	faults, err := v.Check(nodes)
	return err != nil || slices.ContainsFunc(faults, func(f layout.ExtFault) bool { return f.What == what })
}

// superChanged tells whether a superblock or boot sector is not what it was when the card was stamped; known is false
// where that isn't known.
func (r *run) superChanged(rd io.ReaderAt, at layout.Extent, partition int) (changed, known bool) {
	for _, s := range r.Was.Supers {
		if s.Partition == partition {
			now, err := SumSuper(rd, at.Offset)
			return err != nil || now != s.Digest, true
		}
	}
	return false, false
}

// SumSuper is the digest of the start of a partition.
func SumSuper(rd io.ReaderAt, start int64) (digest.Part, error) {
	p := make([]byte, SuperSize)
	if _, err := rd.ReadAt(p, start); err != nil {
		return digest.Part{}, err
	}
	return digest.SumPart([]digest.Block{digest.SumBlock(p)}, 1), nil
}

// faulty tells whether something of a partition's file system was wrong already when the card was stamped.
func (r *run) faulty(partition int) bool {
	return slices.ContainsFunc(r.Was.Supers, func(s Super) bool { return s.Partition == partition && s.Faulty })
}

// withFlips puts places of single bits before others: where a file system writes, it writes more than a bit of a
// sector. What has been compared with what it stands for, as bitmaps are, is left out.
func (r *run) withFlips(places []place) []place {
	var flips []place
	for _, at := range r.flipped {
		sector := layout.Extent{Offset: at, Length: unit}
		i := slices.IndexFunc(places, func(p place) bool { return p.Offset < sector.End() && at < p.End() })
		if i < 0 || !places[i].started || places[i].compared {
			continue
		}
		p := places[i]
		switch p.What {
		case Tables, Folder, FreeRoom, Partition, Superblock:
			p.Extent, p.started, p.why = sector, false, Why{Reason: OneBit}
			flips = append(flips, p)
		}
	}
	return append(flips, places...)
}

// sum gives each part of what differs to the first place that it is in, and sums up by place. Where places are known
// only coarsely, a stretch in which a start changes something is taken for that: what else is in it may be as it was.
func sum(places []place, differs []layout.Extent, coarse bool) []Area {
	var areas []Area
	type kind struct { // of one place, some may be expected and some not
		Place
		started, unsure bool
		why             Why
	}
	index := map[kind]int{}
	for _, d := range differs {
		found := pieces(places, d)
		expected := slices.ContainsFunc(found, func(p place) bool { return p.started || p.unsure })
		for _, p := range found {
			if coarse && expected && !p.started && !p.unsure { // it may be as it was
				p.Beside, p.unsure, p.why = true, true, Why{Reason: OneStretch}
			}
			k := kind{p.Place, p.started, p.unsure, p.why}
			i, ok := index[k]
			if !ok {
				i = len(areas)
				index[k] = i
				areas = append(areas, Area{
					Place: p.Place, First: p.Offset, Started: p.started, Unsure: p.unsure, Why: p.why,
				})
			}
			areas[i].Bytes += p.Length
			areas[i].First = min(areas[i].First, p.Offset)
		}
	}
	slices.SortFunc(areas, func(a, b Area) int { return cmp.Compare(a.First, b.First) })
	return areas
}

// pieces cuts a stretch into parts that are each in one place.
func pieces(places []place, d layout.Extent) (found []place) {
	left := []layout.Extent{d}
	for _, p := range places {
		var rest []layout.Extent
		for _, e := range left {
			from, to := max(e.Offset, p.Offset), min(e.End(), p.End())
			if from >= to {
				rest = append(rest, e)
				continue
			}
			piece := p
			piece.Extent = layout.Extent{Offset: from, Length: to - from}
			found = append(found, piece)
			if e.Offset < from {
				rest = append(rest, layout.Extent{Offset: e.Offset, Length: from - e.Offset})
			}
			if e.End() > to {
				rest = append(rest, layout.Extent{Offset: to, Length: e.End() - to})
			}
		}
		left = rest
	}
	return found
}
