package receipt

import (
	"zipstamp/internal/blank"
	"zipstamp/internal/card"
)

// Blank is the empty card that was made. Sizes are in bytes.
type Blank struct {
	Table      string `json:"table"`
	FileSystem string `json:"file_system"`
	Label      string `json:"label,omitempty"`
	Start      int64  `json:"start"` // of the partition
	Size       int64  `json:"size"`  // of the partition
	RealSize   int64  `json:"real_size,omitempty"`
}

// NewBlank fills in what a job says. The caller adds what is its own: tool, times, verdict, sentence, error and exit
// status.
func NewBlank(c *card.Card, j blank.Job, r blank.Result) Document {
	doc := newDocument(JobBlank, cardOf(c, j.Device.Size(), j.Device.SectorSize(), j.Device.Access()))
	doc.Bytes.Written, doc.Blank = r.Written, &Blank{"MBR", "FAT32", j.Label, r.Start, r.Size, j.Size}
	doc.Phases = phasesOf(r.Phases)
	return doc
}
