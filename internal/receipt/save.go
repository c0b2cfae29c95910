package receipt

import (
	"zipstamp/internal/card"
	"zipstamp/internal/layout"
	"zipstamp/internal/save"
)

// Save is the copy of a card that was made. Sizes are in bytes.
type Save struct {
	File    string  `json:"file"`
	Format  string  `json:"format"`
	Size    int64   `json:"size"`               // of the image
	Packed  int64   `json:"packed"`             // of the file
	LeftOut int64   `json:"left_out,omitempty"` // of the card, behind the image
	Zeroed  int64   `json:"zeroed,omitempty"`   // free space that is zeros in the image
	Kept    string  `json:"kept,omitempty"`     // why free space was kept of some file system
	Image   string  `json:"image_sha256,omitempty"`
	SHA256  string  `json:"file_sha256,omitempty"`
	Unread  Extents `json:"unread"`
	// what did not read the same a second time
	Unsteady *Extents `json:"unsteady,omitempty"`
}

// NewSave fills in what a copy says. The caller adds what is its own: tool, times, verdict, sentence, error and exit
// status.
func NewSave(c *card.Card, d card.Device, file, format string, r save.Result) Document {
	doc := newDocument(JobSave, cardOf(c, c.Size, c.SectorSize, d.Access()))
	doc.Save = &Save{
		File: file, Format: format, Size: r.Size, Packed: r.Packed, LeftOut: r.LeftOut, Zeroed: r.Zeroed,
		Unread: extentsOf(append([]layout.Extent{}, r.Unread...)),
	}
	if len(r.Unsteady) > 0 {
		list := extentsOf(r.Unsteady)
		doc.Save.Unsteady = &list
	}
	if r.File.Algorithm != 0 {
		doc.Save.Image, doc.Save.SHA256 = r.Image.Hex(), r.File.Hex()
	}
	if r.Kept != nil {
		doc.Save.Kept = r.Kept.Error()
	}
	doc.Phases = phasesOf(r.Phases)
	return doc
}
