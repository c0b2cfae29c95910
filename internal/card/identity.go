package card

import (
	"slices"
	"strings"
	"unicode"

	"zipstamp/internal/card/disks"
)

// Identity is by what a card is known again, as it is kept in receipts, journals and the progress of tests. Texts that
// aren't known are empty.
type Identity struct {
	Kind   Kind
	Bus    disks.Bus // of a disk
	Size   int64     // claimed, bytes
	Path   string    // of a file, or of the file behind a loop device
	File   string    // the number of that file on its file system: another file under the same name has another one
	CID    string    // of a card in an SD slot: its own
	Serial string
	Reader bool   // the serial number is that of a reader, or may be
	DiskID string // of the partition table that is on it
}

// Likeness is the answer of comparing two identities.
type Likeness int

// The answers.
const (
	Different Likeness = iota
	MayBe              // nothing that is known of both differs, and nothing shows that it is one card
	Same
)

// Like compares two identities: a card's own number decides, and a file's. The serial number of a reader says little,
// since any card may be in it; and cards that hold the same image have the same partition table.
func (i Identity) Like(o Identity) Likeness {
	switch {
	case i.Size != o.Size || (i.Kind != o.Kind):
		return Different
	case i.Kind == Practice:
		return sameIf(i.Path == o.Path)
	case i.Kind != Block, i.Bus == disks.Loop && o.Bus == i.Bus:
		switch {
		case i.Path != o.Path:
			return Different
		case i.File == "" || o.File == "":
			return MayBe
		}
		return sameIf(i.File == o.File)
	case i.CID != "" && o.CID != "":
		return sameIf(i.CID == o.CID)
	case i.Serial != "" && o.Serial != "" && !i.Reader && !o.Reader && i.CID+o.CID == "":
		return sameIf(i.Serial == o.Serial)
	case i.DiskID != "" && o.DiskID != "" && !strings.EqualFold(i.DiskID, o.DiskID):
		return Different
	}
	return MayBe
}

func sameIf(same bool) Likeness {
	if same {
		return Same
	}
	return Different
}

// Identity of the card, without what is on it.
func (c *Card) Identity() Identity {
	i := Identity{Kind: c.Kind, Size: c.Size, Serial: c.Serial, Path: c.Path}
	if c.file != nil {
		i.File = c.file.Number
	}
	if d := c.Disk; d != nil {
		i.Bus, i.CID, i.Path, i.File = d.Bus, d.CID(), d.Backing, d.Number
		i.Reader = d.Bus == disks.USB && serialIsReaders(d)
	}
	return i
}

// readerWords are those by which readers call themselves. A stick has its own name.
var readerWords = []string{
	"reader", "card", "sd", "sdhc", "sdxc", "mmc", "microsd", "multi", "storage", "adapter", "generic",
}

// serialIsReaders tells whether the serial number of a USB device may be that of a reader, in which any card may be.
func serialIsReaders(d *disks.Disk) bool {
	if d.Slots > 1 {
		return true
	}
	name := d.Title()
	if d.USB != nil {
		name += " " + d.USB.Manufacturer + " " + d.USB.Name
	}
	words := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return !unicode.IsLetter(r) })
	return len(words) == 0 || slices.ContainsFunc(words, func(w string) bool { return slices.Contains(readerWords, w) })
}
