package receipt

import (
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/meter"
	"zipstamp/internal/recheck"
)

// Recheck is what reading a stamped card again found. Sizes and offsets are in bytes.
type Recheck struct {
	Against  string   `json:"against"` // "image" or "receipt"
	Stamped  string   `json:"stamped,omitempty"`
	Compared int64    `json:"compared"`
	Unit     int64    `json:"unit"` // to which places are known
	Differ   int64    `json:"differ"`
	Failed   Extents  `json:"failed"` // could not be read
	Extents  Extents  `json:"extents"`
	Started  bool     `json:"started"` // all that differs is what a board changes when it starts
	Areas    []Change `json:"areas"`
	Holds    string   `json:"holds,omitempty"`  // that the card has another system than the image: its name, or why
	Before   string   `json:"before,omitempty"` // what was begun with the card before and did not come to its end
}

// Change is a part of the card in which something differs.
type Change struct {
	Name      string `json:"name"` // in words
	What      string `json:"what,omitempty"`
	Partition int    `json:"partition,omitempty"`
	Path      string `json:"path,omitempty"`
	Bytes     int64  `json:"bytes"`
	First     int64  `json:"first"`
	Started   bool   `json:"started"`
	Unsure    bool   `json:"unsure,omitempty"` // it may be that, or damage
	Why       string `json:"why"`              // in words
	Reason    string `json:"reason,omitempty"`
}

// NewRecheck starts the receipt of reading a card again. The caller adds the image and what is its own: tool, times,
// verdict, sentence, error and exit status.
func NewRecheck(c *card.Card, d card.Device) Document {
	return newDocument(JobRecheck, cardOf(c, c.Size, c.SectorSize, d.Access()))
}

// AddRecheck fills in what a report says. say puts a part, and why it counts as it does, into words.
func (d *Document) AddRecheck(
	r *recheck.Report, withImage bool, stamped time.Time, say func(recheck.Area) (name, why string),
) {
	c := &Recheck{
		Against: "receipt", Compared: r.Compared, Unit: r.Unit, Differ: r.Bytes(), Started: r.Started(),
		Areas: []Change{}, Holds: r.Holds,
	}
	if withImage {
		c.Against = "image"
	}
	if !stamped.IsZero() {
		c.Stamped = stamped.UTC().Format(time.RFC3339)
	}
	c.Failed, c.Extents = extentsOf(r.Failed), extentsOf(r.Differs)
	for _, a := range r.Areas[:min(len(r.Areas), MaxExtents)] {
		one := Change{
			What: string(a.What), Partition: a.Partition, Path: a.Path, Bytes: a.Bytes, First: a.First,
			Started: a.Started, Unsure: a.Unsure, Reason: string(a.Why.Reason),
		}
		one.Name, one.Why = say(a)
		c.Areas = append(c.Areas, one)
	}
	d.Recheck = c
	d.Phases = phasesOf([]meter.PhaseTime{{Phase: meter.ReadBack, Bytes: r.Compared, Took: r.Took}})
	d.Speed.ReadBack = pointsOf(r.Reading)
}
