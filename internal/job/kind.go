package job

import "zipstamp/internal/receipt"

// Kind is what a job does with a card, whichever card that is.
type Kind struct {
	Name    string // as receipts call it
	Keeps   bool   // what is on the card is there afterwards
	Takes   bool   // the card is taken for the job alone, since it is written
	Receipt bool
	Saved   Saved
}

// Saved says what becomes of what an interrupted test has saved of a card.
type Saved int

// What may become of it.
const (
	LeftAlone Saved = iota // the job doesn't write, or is about just that
	PutBack                // before the job begins
	Offered                // to be put back; otherwise it is deleted when the card is overwritten
)

// The kinds of jobs on a card.
var (
	Stamp   = Kind{Name: receipt.JobStamp, Takes: true, Receipt: true, Saved: Offered}
	Blank   = Kind{Name: receipt.JobBlank, Takes: true, Receipt: true, Saved: Offered}
	Whole   = Kind{Name: receipt.JobWhole, Takes: true, Receipt: true, Saved: Offered}
	Spots   = Kind{Name: receipt.JobSpots, Keeps: true, Takes: true, Receipt: true, Saved: PutBack}
	Pace    = Kind{Name: receipt.JobPace, Keeps: true, Takes: true, Receipt: true, Saved: PutBack}
	Save    = Kind{Name: receipt.JobSave, Keeps: true, Takes: true, Receipt: true, Saved: PutBack}
	Restore = Kind{Name: "gauge restore", Keeps: true, Takes: true}
	Recheck = Kind{Name: receipt.JobRecheck, Keeps: true, Receipt: true}
)

var kinds = []Kind{Stamp, Blank, Whole, Spots, Pace, Save, Restore, Recheck}

// Overwrites tells whether after the job of a receipt a card may hold something else than before.
func Overwrites(d receipt.Document) bool {
	for _, k := range kinds {
		if k.Name == d.Job {
			return !k.Keeps
		}
	}
	return false
}
