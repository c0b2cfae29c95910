package recheck

import (
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"slices"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
)

// Area is a part of the card in which something differs.
type Area struct {
	Name    string // "partition 1 (FAT16, "BOOT"): file config.txt"
	Bytes   int64  // that differ in it, or could not be read
	First   int64  // where the first of them is, bytes
	Started bool   // it is what a board changes when it starts from the card, or runs
	Unsure  bool   // whether it is that, or damage, can't be told
	Why     string // why so, or not
}

// units cuts a stretch that differs into those that have a digest of their own: where something differs that a start changes, nothing follows for the others.
func (r *run) units(e Extent) (all []Extent) {
	if r.Image != nil {
		return []Extent{e}
	}
	for at := e.Offset; at < e.End(); {
		unit := r.PartSize
		switch {
		case len(r.Head) > 0 && at < digest.BlockSize:
			unit = digest.HeadPiece
		case len(r.Head) > 0 && at < r.PartSize:
			unit = digest.BlockSize
		}
		end := min((at/unit+1)*unit, e.End())
		all = append(all, Extent{at, end - at})
		at = end
	}
	return all
}

// place is a stretch of the card that has a name.
type place struct {
	Extent
	name    string
	started bool
	unsure  bool
	why     string
}

// writable are file systems that a running board writes to, and whose contents are not looked into here.
var writable = []string{layout.BtrfsKind, layout.F2FSKind, layout.XFSKind, layout.ExFATKind, layout.NTFSKind, layout.LUKSKind, layout.LVMKind}

// areas names what differs, by what is on the card now.
func (r *run) areas(ctx context.Context) ([]Area, error) {
	whole, err := card.NewReader(r.Device, nil)
	if err != nil {
		return nil, err
	}
	defer whole.Close()
	rd := until{whole, ctx}
	disk, err := layout.Describe(rd, r.Device.Size())
	if err != nil {
		return nil, err
	}
	var differs []Extent
	for _, e := range append(slices.Clone(r.rep.Differs), r.rep.Failed...) {
		differs = append(differs, r.units(e)...)
	}
	places := r.places(rd, disk)
	if ctx.Err() != nil { // they are not all
		return nil, context.Cause(ctx)
	}
	areas := sum(places, differs, r.Image == nil)
	for i := range areas {
		volume, ok := strings.CutSuffix(areas[i].Name, freeRoom)
		written := slices.ContainsFunc(areas, func(a Area) bool { return a.Name == volume+tables })
		if ok && !written {
			areas[i].Started, areas[i].Why = false, "nothing of a file is there, but the file system's tables are as they were, so nobody has written there"
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

// What is in a FAT volume besides files.
const (
	freeRoom = ": free room"
	tables   = ": its tables and folders"
)

// places lists the parts of the card, the most special ones first.
func (r *run) places(rd io.ReaderAt, disk layout.Disk) (all []place) {
	var parts []place
	for _, p := range disk.Parts {
		name := fmt.Sprintf("partition %d", p.Number)
		if what := describe(p.FileSystem); what != "" {
			name += " (" + what + ")"
		}
		at := Extent{p.Start, p.Length}
		switch {
		case strings.HasPrefix(p.Kind, "FAT"):
			all = append(all, r.fatPlaces(io.NewSectionReader(rd, p.Start, p.Length), p.Start, name)...)
			parts = append(parts, place{Extent: at, name: name + freeRoom, started: true, why: "nothing of a file is there"})
		case strings.HasPrefix(p.Kind, "ext"):
			all = append(all, r.extPlaces(rd, at, name)...)
		case p.Kind == layout.SwapKind:
			parts = append(parts, place{Extent: at, name: name, started: true, why: "a running board writes to its swap"})
		case p.Kind == layout.BtrfsKind && r.Image != nil && !r.differsAt(Extent{p.Start + btrfsSuper, unit}):
			parts = append(parts, place{Extent: at, name: name, why: "its superblock is as it was, so nobody has written there"})
		case slices.Contains(writable, p.Kind):
			parts = append(parts, place{Extent: at, name: name, unsure: true, why: "a running board writes to this file system; what of it is damage can't be told"})
		default:
			parts = append(parts, place{Extent: at, name: name, why: "a board doesn't write there by starting"})
		}
	}
	all = append(all, parts...)
	if disk.Table.Scheme != layout.NoTable || r.Was.Table != nil && r.Was.Table.Scheme != layout.NoTable {
		all = append(r.tablePlaces(rd, disk.Table), all...)
	}
	return append(all, place{Extent: Extent{0, r.Device.Size()}, name: "outside of all partitions", why: "a board doesn't write there by starting"})
}

// btrfsSuper is where the superblock of btrfs is, which is written with every change (Linux, Documentation/filesystems/btrfs, "superblock").
const btrfsSuper = 64 << 10

// differsAt tells whether something of a stretch differs, as far as that is known.
func (r *run) differsAt(e Extent) bool {
	return slices.ContainsFunc(r.rep.Differs, func(d Extent) bool { return d.Offset < e.End() && e.Offset < d.End() })
}

// tablePlaces are those of the partition table, and of the boot code before it.
func (r *run) tablePlaces(rd io.ReaderAt, now layout.Table) []place {
	t := place{Extent: Extent{0, TableEnd(now)}, name: "the partition table"}
	boot := make([]byte, BootCode)
	_, err := rd.ReadAt(boot, 0)
	switch {
	case now.Damage != "":
		t.why = now.Damage
	case r.Was.Table == nil:
		t.unsure, t.why = true, "how the table was when the card was stamped is not known"
	case err != nil || sha256.Sum256(boot) != r.Was.Boot:
		t.name, t.why = "the boot code", "a start doesn't change it"
	default:
		if t.why = tableDiffers(*r.Was.Table, now); t.why == "" {
			t.started, t.why = true, "a first start grows the last partition, adds one, or gives the disk another number"
		}
	}
	return []place{t}
}

// BootCode is the length of the code at a disk's start, before its number and its partitions (UEFI 2.10, 5.2.1), bytes.
const BootCode = 440

// tableDiffers says what of a partition table no start changes; empty if that is as it was.
func tableDiffers(was, now layout.Table) string {
	if was.Scheme != now.Scheme {
		return fmt.Sprintf("it was %s, and is %s", was.Scheme, now.Scheme)
	}
	for _, p := range was.Parts {
		i := slices.IndexFunc(now.Parts, func(n layout.Part) bool { return n.Number == p.Number })
		switch {
		case i < 0:
			return fmt.Sprintf("partition %d is gone", p.Number)
		case now.Parts[i].Start != p.Start:
			return fmt.Sprintf("partition %d starts elsewhere", p.Number)
		case !strings.EqualFold(now.Parts[i].ID, p.ID):
			return fmt.Sprintf("partition %d is of another type", p.Number)
		case now.Parts[i].Length < p.Length, now.Parts[i].Length > p.Length && p.End() < was.End():
			return fmt.Sprintf("partition %d has another length, and is not the last", p.Number)
		}
	}
	return ""
}

// extPlaces lists the files and tables of an ext file system, and the rest.
func (r *run) extPlaces(rd io.ReaderAt, at Extent, name string) (all []place) {
	part := io.NewSectionReader(rd, at.Offset, at.Length)
	super := Extent{at.Offset + 1024, 1024}
	v, err := layout.OpenExt(part, at.Length)
	if err != nil {
		return []place{{Extent: at, name: name, why: "its superblock makes no sense"}}
	}
	add := func(s layout.Stretch, what string, started bool, why string) {
		all = append(all, place{Extent: Extent{at.Offset + s.Offset, s.Length}, name: name + what, started: started, why: why})
	}
	mounted := r.differsAt(super)
	if r.Image == nil && !r.Stamped.IsZero() {
		mounted = mounted || v.Mounted.After(r.Stamped) || v.Written.After(r.Stamped)
	}
	switch {
	case !v.SumRight:
		return []place{{Extent: super, name: name + ": its superblock", why: "its checksum is wrong"}, {Extent: at, name: name, unsure: true, why: "with a damaged superblock, the rest can't be told apart"}}
	case !mounted:
		return []place{{Extent: at, name: name, why: "its superblock is as it was, so nobody has written there"}}
	}
	nodes, err := v.Nodes() // of a damaged file system, those that were found
	if err != nil {
		return []place{{Extent: at, name: name, unsure: true, why: "a running board writes to this file system; what of it is damage can't be told: " + err.Error()}}
	}
	for _, n := range nodes {
		what := ": file " + n.Path
		if n.Folder {
			what = ": folder " + n.Path
		}
		if n.Path == "" {
			what = fmt.Sprintf(": inode %d", n.Number)
		}
		if !n.SumRight {
			add(n.At, fmt.Sprintf(": inode %d, of %s", n.Number, n.Path), false, "its checksum is wrong")
		}
		written, why := r.wasWritten(n, at.Offset)
		for _, s := range n.Stretch {
			add(s, what, written, why)
		}
	}
	tables, err := v.Metadata()
	if err == nil {
		for _, s := range tables {
			add(s, ": its tables", true, "mounting and writing changes them")
		}
	}
	return append(all, place{Extent: at, name: name + ": blocks of no file", started: true, why: "something may have been there meanwhile"})
}

// wasWritten tells whether an inode says that it was written since the card was stamped. Compared with the image, the inode itself tells, whatever the board's clock was; compared
// with a receipt, its times do.
func (r *run) wasWritten(n *layout.ExtNode, start int64) (written bool, why string) {
	since := "it was written since the card was stamped, on " + n.Changed.Format("2 January 2006")
	switch {
	case n.Own:
		return true, "the file system writes it for itself"
	case r.Image != nil && r.differsAt(Extent{start + n.At.Offset, n.At.Length}):
		return true, "its inode was written too"
	case r.Image != nil:
		return false, "its inode is as it was, so nobody has written it"
	case !r.Stamped.IsZero() && (n.Changed.After(r.Stamped) || n.Made.After(r.Stamped)):
		return true, since
	}
	return false, "its inode says that it was not written since the card was stamped"
}

func describe(f layout.FileSystem) string {
	if f.Label != "" {
		return fmt.Sprintf("%s, %q", f.Kind, f.Label)
	}
	return f.Kind
}

// fatPlaces lists the files of a volume, and its tables and folders.
func (r *run) fatPlaces(rd io.ReaderAt, start int64, name string) (all []place) {
	v, err := layout.OpenFAT(rd)
	if err != nil {
		return nil
	}
	files, _ := v.Files() // of a damaged volume, those that were found
	for _, f := range files {
		at, _ := v.Extents(f)
		started, why := false, "it is dated from before the card was stamped"
		switch {
		case isBootFile(f.Path):
			why = "a board starts from it, and doesn't write it"
		case !r.Stamped.IsZero() && f.Modified.After(r.Stamped.UTC()):
			started, why = true, "it was written since the card was stamped, on "+f.Modified.Format("2 January 2006")
		case r.Stamped.IsZero():
			why = "when the card was stamped is not known"
		}
		for _, e := range at {
			all = append(all, place{Extent: Extent{start + e.Offset, e.Length}, name: name + ": file " + f.Path, started: started, why: why})
		}
	}
	return append(all, place{Extent: Extent{start, v.Data()}, name: name + tables, started: true, why: "mounting and writing changes them"})
}

// isBootFile tells kernels, device trees and programs that a board starts by, as opposed to text that it may write.
func isBootFile(path string) bool {
	name := strings.ToLower(path[strings.LastIndexByte(path, '/')+1:])
	for _, ending := range []string{".img", ".bin", ".elf", ".dtb", ".dtbo", ".efi", ".scr", ".itb", ".gz"} {
		if strings.HasSuffix(name, ending) {
			return true
		}
	}
	return strings.HasPrefix(name, "vmlinu") || strings.HasPrefix(name, "initrd") || strings.HasPrefix(name, "zimage") || name == "image"
}

// besideOthers marks what may be as it was.
const besideOthers = ", beside what was written"

// sum gives each part of what differs to the first place that it is in, and sums up by name. Where places are known only coarsely, a stretch in which a start changes
// something is taken for that: what else is in it may be as it was.
func sum(places []place, differs []Extent, coarse bool) []Area {
	var areas []Area
	index := map[string]int{}
	for _, d := range differs {
		found := pieces(places, d)
		expected := slices.ContainsFunc(found, func(p place) bool { return p.started || p.unsure })
		for _, p := range found {
			if coarse && expected && !p.started && !p.unsure { // it may be as it was
				p.name, p.unsure, p.why = p.name+besideOthers, true, "it is in one stretch with something that was written, so whether it differs can't be told"
			}
			i, ok := index[p.name]
			if !ok {
				i = len(areas)
				index[p.name] = i
				areas = append(areas, Area{Name: p.name, First: p.Offset, Started: p.started, Unsure: p.unsure, Why: p.why})
			}
			areas[i].Bytes += p.Length
			areas[i].First = min(areas[i].First, p.Offset)
		}
	}
	slices.SortFunc(areas, func(a, b Area) int { return cmp.Compare(a.First, b.First) })
	return areas
}

// pieces cuts a stretch into parts that are each in one place.
func pieces(places []place, d Extent) (found []place) {
	left := []Extent{d}
	for _, p := range places {
		var rest []Extent
		for _, e := range left {
			from, to := max(e.Offset, p.Offset), min(e.End(), p.End())
			if from >= to {
				rest = append(rest, e)
				continue
			}
			found = append(found, place{Extent{from, to - from}, p.name, p.started, p.unsure, p.why})
			if e.Offset < from {
				rest = append(rest, Extent{e.Offset, from - e.Offset})
			}
			if e.End() > to {
				rest = append(rest, Extent{to, e.End() - to})
			}
		}
		left = rest
	}
	return found
}
