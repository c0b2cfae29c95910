package receipt

import (
	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/layout"
	"zipstamp/internal/loose"
)

// Blank is the card with one file system that was made. Sizes are in bytes.
type Blank struct {
	Table      string `json:"table"`
	FileSystem string `json:"file_system,omitempty"` // none: nothing was made
	Label      string `json:"label,omitempty"`
	Start      int64  `json:"start"` // of the partition
	Size       int64  `json:"size"`  // of the partition
	RealSize   int64  `json:"real_size,omitempty"`
	Files      *Files `json:"files,omitempty"` // that it was made with; none: it is empty
}

// Files are the files on a card that was made with some.
type Files struct {
	Count  int    `json:"count"`
	Bytes  int64  `json:"bytes"`
	Within string `json:"within,omitempty"` // the folder, of the archive or folder, whose contents they are
	Read   int64  `json:"read"`             // bytes that were read back, file by file
}

// NewBlank fills in what a job says. The caller adds what is its own: tool, times, verdict, sentence, error and exit
// status.
func NewBlank(c *card.Card, j blank.Job, r blank.Result) Document {
	doc := newDocument(JobBlank, cardOf(c, j.Device.Size(), j.Device.SectorSize(), j.Device.Access()))
	doc.Bytes.Written, doc.Blank = r.Written, blankOf(j.Plan, j.Size)
	doc.Bytes.Displaced = &r.Displaced
	doc.Phases = phasesOf(r.Phases)
	return doc
}

func blankOf(p *blank.Plan, realSize int64) *Blank {
	return &Blank{
		Table: string(layout.SchemeMBR), FileSystem: string(p.Kind()), Label: p.Label, Start: p.Start, Size: p.Size,
		RealSize: realSize,
	}
}

// AddFiles makes the receipt of a stamp that of a card with loose files. plan is nil where none fits; read is how many
// bytes were read back.
func (d *Document) AddFiles(set *loose.Set, plan *blank.Plan, realSize, read int64) {
	d.Job, d.Blank = JobBlank, &Blank{Table: string(layout.SchemeMBR)}
	if plan != nil {
		d.Blank = blankOf(plan, realSize)
	}
	d.Blank.Files = &Files{Count: set.Count, Bytes: set.Bytes, Within: set.Within, Read: read}
	d.Image.Packing = set.Packing
}
