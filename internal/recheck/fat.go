package recheck

import (
	"bytes"
	"io"
	"slices"
	"time"

	"zipstamp/internal/layout"
)

// fatVolume is a FAT volume on the card, looked at to tell what differs in it.
type fatVolume struct {
	*run
	*layout.FAT
	rd    io.ReaderAt // the card
	start int64       // of the volume, bytes
	in    Place
	check layout.FATCheck
	used  bool // something says that it was written since the card was stamped
	all   []place
}

// fatPlaces lists the files of a volume, its tables and its folders, and what of them using it changes. What the tables
// say must agree, as after any use; a volume that was never used has no such changes.
func (r *run) fatPlaces(rd io.ReaderAt, at layout.Extent, in Place) []place {
	v, err := layout.OpenFAT(io.NewSectionReader(rd, at.Offset, at.Length))
	if err != nil {
		return nil
	}
	f := &fatVolume{run: r, FAT: v, rd: rd, start: at.Offset, in: in}
	if f.check, err = v.Check(); err != nil {
		f.add(layout.Extent{Length: v.Data()}, Tables, "", false, Why{Reason: Opaque, Detail: err.Error()})
		f.all[0].unsure = true
		return f.all
	}
	switch {
	case r.faulty(in.Partition):
		f.check.Faults = nil // they were there before
	case r.Image != nil && len(f.check.Faults) > 0:
		f.leaveOld(at)
	}
	f.used = f.wasUsed()
	f.head()
	f.files()
	f.folders()
	return f.all
}

// leaveOld leaves out the faults that the image has too.
func (f *fatVolume) leaveOld(at layout.Extent) {
	v, err := layout.OpenFAT(io.NewSectionReader(f.was, at.Offset, at.Length))
	if err != nil {
		return
	}
	was, err := v.Check()
	if err != nil {
		return
	}
	f.check.Faults = slices.DeleteFunc(f.check.Faults, func(w string) bool { return slices.Contains(was.Faults, w) })
}

func (f *fatVolume) add(e layout.Extent, what What, path string, started bool, why Why) {
	e.Offset += f.start
	in := f.in
	in.What, in.Path = what, path
	f.all = append(f.all, place{Extent: e, Place: in, started: started, why: why})
}

// differs tells whether something of a stretch of the volume differs.
func (f *fatVolume) differs(e layout.Extent) bool {
	e.Offset += f.start
	return f.differsAt(e)
}

// wasUsed tells whether something was written to the volume, as far as that shows: an entry of a folder is another one;
// or, without the image, a file was written after the stamp, by the clock of whoever wrote it, or the volume is in use.
func (f *fatVolume) wasUsed() bool {
	if f.check.Unclean {
		return true
	}
	if f.Image != nil {
		for _, e := range f.check.Folders {
			if f.differs(e) {
				return true
			}
		}
		return false
	}
	for _, file := range f.check.Files {
		if f.since(file.Modified) {
			return true
		}
	}
	return false
}

// since tells whether a file was written after the stamp. FAT has local times, so the stamp's is taken as its clock
// showed it.
func (f *fatVolume) since(modified time.Time) bool {
	if f.Stamped.IsZero() {
		return false
	}
	s := f.Stamped
	return modified.After(time.Date(s.Year(), s.Month(), s.Day(), s.Hour(), s.Minute(), s.Second(), 0, time.UTC))
}

// why is the reason of tables: that using the volume changes them, or why it can't have.
func (f *fatVolume) why() (expected bool, why Why) {
	switch {
	case len(f.check.Faults) > 0:
		return false, Why{Reason: Disagrees, Detail: f.check.Faults[0]}
	case !f.used && f.Image != nil:
		return false, Why{Reason: FoldersAsWere}
	case !f.used:
		return false, Why{Reason: NotUsed}
	}
	return true, Why{Reason: Mounting}
}

// head is what comes before the files: of the boot sector only the note that the volume is in use may change, and of
// FSInfo what is free.
func (f *fatVolume) head() {
	expected, why := f.why()
	tables := f.Tables()
	if f.Image != nil {
		f.only(layout.Extent{Length: layout.SectorSize}, layout.Extent{Offset: f.Dirty(), Length: 1})
		if free, ok := f.FSInfo(); ok {
			sector := layout.Extent{
				Offset: free.Offset / layout.SectorSize * layout.SectorSize, Length: layout.SectorSize,
			}
			f.only(sector, free)
		}
		f.add(layout.Extent{Length: tables.Offset}, Tables, "", false, Why{Reason: NotByStart})
	}
	f.add(layout.Extent{Length: f.Data()}, Tables, "", expected, why)
	f.all[len(f.all)-1].compared = true
}

// only adds a sector of which a part may change, if all agrees.
func (f *fatVolume) only(sector, part layout.Extent) {
	now, was := make([]byte, sector.Length), make([]byte, sector.Length)
	_, err := f.rd.ReadAt(now, f.start+sector.Offset)
	if err == nil {
		_, err = f.was.ReadAt(was, f.start+sector.Offset)
	}
	from, to := part.Offset-sector.Offset, part.End()-sector.Offset
	same := err == nil && bytes.Equal(now[:from], was[:from]) && bytes.Equal(now[to:], was[to:])
	switch {
	case !same:
		f.add(sector, Tables, "", false, Why{Reason: NotByStart})
	case len(f.check.Faults) > 0:
		f.add(sector, Tables, "", false, Why{Reason: Disagrees, Detail: f.check.Faults[0]})
	default:
		f.add(sector, Tables, "", true, Why{Reason: Mounting})
		f.all[len(f.all)-1].compared = part.Length == 1 // a note is a bit
	}
}

// files are changed if their entries are: their times, sizes or places, but not when they were read.
func (f *fatVolume) files() {
	for _, file := range f.check.Files {
		at, _ := f.Extents(file.FATFile)
		started, why := false, Why{Reason: NotSince}
		switch {
		case layout.IsBootFile(file.Path):
			why.Reason = BootFile
		case f.Image != nil && f.entryWritten(file.Entry):
			started, why = true, Why{Reason: EntryWritten}
		case f.Image != nil:
			why.Reason = EntryAsBefore
		case f.Stamped.IsZero():
			why.Reason = StampUnknown
		case f.since(file.Modified):
			started, why = true, Why{Reason: WrittenSince, When: file.Modified}
		}
		for _, e := range at {
			f.add(e, File, file.Path, started, why)
		}
	}
}

// entryWritten compares a file's entry with what the image has in its place.
func (f *fatVolume) entryWritten(at int64) bool {
	const read, size = 18, 32 // where the day is that it was read, two bytes, and the length of an entry
	now, was := make([]byte, size), make([]byte, size)
	if _, err := f.rd.ReadAt(now, f.start+at); err != nil {
		return false
	}
	if _, err := f.was.ReadAt(was, f.start+at); err != nil {
		return true // it is behind the image's end
	}
	clear(now[read : read+2])
	clear(was[read : read+2])
	return !bytes.Equal(now, was)
}

func (f *fatVolume) folders() {
	expected, why := f.why()
	for _, e := range f.check.Folders {
		f.add(e, Tables, "", expected, why)
	}
}
