package card

import "zipstamp/internal/card/disks"

// Record is an Identity as it is kept in files (receipts, journals, the progress of tests), with the names that the
// card had then.
type Record struct {
	Path   string `json:"path"`
	Name   string `json:"name"`
	Kind   Kind   `json:"kind"`
	Size   int64  `json:"size"` // bytes
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
	Reader bool   `json:"serial_of_reader,omitempty"` // or it may be
	CID    string `json:"cid,omitempty"`              // of a card in an SD slot: maker, OEM, product, serial number
	Bus    string `json:"bus,omitempty"`
	Behind string `json:"behind,omitempty"`  // the file behind a loop device
	File   string `json:"file,omitempty"`    // its number, or that of a plain file
	DiskID string `json:"disk_id,omitempty"` // of the partition table that is on it, where it was looked for
}

// Record is what is kept of the card.
func (c *Card) Record() Record {
	i := c.Identity()
	r := Record{
		Path: c.Path, Name: c.Name, Kind: i.Kind, Size: i.Size, Model: c.Model, Serial: i.Serial, Reader: i.Reader,
		CID: i.CID, Bus: string(i.Bus), File: i.File,
	}
	if i.Kind == Block {
		r.Behind = i.Path
	}
	return r
}

// Identity is by what the card is known again.
func (r Record) Identity() Identity {
	i := Identity{
		Kind: r.Kind, Bus: disks.Bus(r.Bus), Size: r.Size, Path: r.Path, File: r.File, CID: r.CID, Serial: r.Serial,
		Reader: r.Reader, DiskID: r.DiskID,
	}
	if r.IsDisk() {
		i.Path = r.Behind
	}
	return i
}

// IsDisk tells whether it is a disk, and not a file, which is found by its path.
func (r Record) IsDisk() bool { return r.Kind == Block }

// Like compares two cards.
func (r Record) Like(other Record) Likeness { return r.Identity().Like(other.Identity()) }
