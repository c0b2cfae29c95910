package recheck

import (
	"cmp"
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
	Started bool   // it is what a board changes when it starts from the card
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
	why     string
}

// writable are file systems that a running board writes to.
var writable = []string{"ext2", "ext3", "ext4", "btrfs", "F2FS", "XFS", "swap"}

// areas names what differs, by what is on the card now.
func (r *run) areas() ([]Area, error) {
	rd, err := card.NewReader(r.Device, nil)
	if err != nil {
		return nil, err
	}
	defer rd.Close()
	disk, err := layout.Describe(rd, r.Device.Size())
	if err != nil {
		return nil, err
	}
	var differs []Extent
	for _, e := range append(slices.Clone(r.rep.Differs), r.rep.Failed...) {
		differs = append(differs, r.units(e)...)
	}
	areas := sum(r.places(rd, disk), differs, r.Image == nil)
	for i := range areas {
		volume, ok := strings.CutSuffix(areas[i].Name, freeRoom)
		written := slices.ContainsFunc(areas, func(a Area) bool { return a.Name == volume+tables })
		if ok && !written {
			areas[i].Started, areas[i].Why = false, "nothing of a file is there, but the file system's tables are as they were, so nobody has written there"
		}
	}
	return areas, nil
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
			parts = append(parts, place{at, name + freeRoom, true, "nothing of a file is there"})
		case slices.Contains(writable, p.Kind):
			parts = append(parts, place{at, name, true, "a running board writes to this file system"})
		default:
			parts = append(parts, place{at, name, false, "a board doesn't write there by starting"})
		}
	}
	all = append(all, parts...)
	if disk.Table.Scheme != layout.NoTable {
		first := int64(layout.SectorSize)
		if disk.Table.Scheme != layout.SchemeMBR {
			first = 34 * layout.SectorSize // of GPT, UEFI 2.10, 5.3.1
		}
		t := place{Extent{0, roundUp(first, min(r.rep.Unit, unit))}, "the partition table", true, "a first start grows the last partition, or gives the disk another number"}
		if disk.Table.Damage != "" {
			t.started, t.why = false, disk.Table.Damage
		}
		all = append([]place{t}, all...)
	}
	return append(all, place{Extent{0, r.Device.Size()}, "outside of all partitions", false, "a board doesn't write there by starting"})
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
		case !r.Stamped.IsZero() && f.Modified.After(r.Stamped.UTC()):
			started, why = true, "it was written since the card was stamped, on "+f.Modified.Format("2 January 2006")
		case r.Stamped.IsZero():
			why = "when the card was stamped is not known"
		}
		for _, e := range at {
			all = append(all, place{Extent{start + e.Offset, e.Length}, name + ": file " + f.Path, started, why})
		}
	}
	return append(all, place{Extent{start, v.Data()}, name + tables, true, "mounting and writing changes them"})
}

// sum gives each part of what differs to the first place that it is in, and sums up by name. Where places are known only coarsely, a stretch in which a start changes
// something is taken for that: what else is in it may be as it was.
func sum(places []place, differs []Extent, coarse bool) []Area {
	var areas []Area
	index := map[string]int{}
	for _, d := range differs {
		found := pieces(places, d)
		expected := slices.ContainsFunc(found, func(p place) bool { return p.started })
		for _, p := range found {
			if coarse && expected && !p.started {
				continue
			}
			i, ok := index[p.name]
			if !ok {
				i = len(areas)
				index[p.name] = i
				areas = append(areas, Area{Name: p.name, First: p.Offset, Started: p.started, Why: p.why})
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
			found = append(found, place{Extent{from, to - from}, p.name, p.started, p.why})
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
