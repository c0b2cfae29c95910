package receipt

import (
	"fmt"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/pace"
)

// Pace is how fast a card is. Rates are in bytes or accesses a second, times in seconds.
type Pace struct {
	SequentialRead  float64  `json:"sequential_read"`
	SequentialWrite float64  `json:"sequential_write"`
	SlowestWrite    float64  `json:"slowest_write,omitempty"`
	RandomReads     float64  `json:"random_reads"`
	RandomWrites    float64  `json:"random_writes"`
	SmallestRead    float64  `json:"smallest_read"`       // time of a read of what was just read
	Link            string   `json:"link,omitempty"`      // how the card is reached
	LinkRate        float64  `json:"link_rate,omitempty"` // most that the link carries
	Meets           []string `json:"meets"`               // marks
	Limits          []Limit  `json:"limits"`              // what may have been slower than the card
	Reads           Access   `json:"reads"`
	Writes          Access   `json:"writes"`
}

// usbMost is the most data that bulk transfers carry on a USB link, by its speed in Mbit/s: USB 2.0 (5.8.4) for full
// and high speed; for SuperSpeed the line rate less its coding (USB 3.2, 3.2).
var usbMost = map[int]float64{12: 1.216e6, 480: 53.248e6, 5000: 500e6, 10000: 1212e6, 20000: 2424e6}

// NewPace fills in what a report says. The caller adds what is its own: tool, times, verdict, sentence, error and exit
// status.
func NewPace(c *card.Card, r *pace.Report) Document {
	p := &Pace{
		SequentialRead: r.ReadRate, SequentialWrite: r.WriteRate, SlowestWrite: r.SlowestWrite,
		RandomReads: r.ReadsPerSecond, RandomWrites: r.WritesPerSecond, SmallestRead: r.Smallest.Seconds(),
		Meets: append([]string{}, r.Meets()...), Limits: []Limit{}, Reads: accessOf(&r.Reads),
		Writes: accessOf(&r.Writes),
	}
	if c.Disk != nil && c.Disk.USB != nil && c.Disk.USB.Speed > 0 {
		p.Link, p.LinkRate = fmt.Sprintf("USB at %d Mbit/s", c.Disk.USB.Speed), usbMost[c.Disk.USB.Speed]
	}
	p.Limits = append(p.Limits, limits(p, r, c)...)
	doc := newDocument(JobPace, cardOf(c, c.Size, c.SectorSize, r.Access))
	doc.Pace, doc.Mishaps, doc.Bytes.Written = p, mishapsOf(r.Mishaps), r.Written
	doc.Speed = Speed{pointsOf(r.Writing), pointsOf(r.Reading)}
	doc.Phases = phasesOf(r.Phases)
	return doc
}

// How close to a limit is taken for being held up by it: readers reach some three quarters of what their link could
// carry.
const (
	nearLink  = 0.6
	nearSmall = 1.5
	longSmall = 300 * time.Microsecond // what a reader takes at least, where it is worth a word
	slowLink  = 480                    // Mbit/s and less
)

// Limit is something beside the card that may have been slow.
type Limit string

// The limits.
const (
	LimitLink    Limit = "link"     // the reader's link carries no more
	LimitReader  Limit = "reader"   // the reader takes nearly as long where the card has nothing to do
	LimitNotLink Limit = "not link" // the link is slow, but would carry more
	LimitCached  Limit = "memory"   // this computer's memory can't be bypassed
	LimitDropped Limit = "gathered" // this computer may have gathered writes
)

// limits says what may have been slower than the card, as far as that can be known.
func limits(p *Pace, r *pace.Report, c *card.Card) (all []Limit) {
	if p.LinkRate > 0 && p.SequentialRead > nearLink*p.LinkRate {
		all = append(all, LimitLink)
	}
	if median := time.Duration(p.Reads.Median * float64(time.Second)); r.Smallest >= longSmall &&
		float64(median) < nearSmall*float64(r.Smallest) {
		all = append(all, LimitReader)
	}
	if c.Disk != nil && c.Disk.USB != nil && c.Disk.USB.Speed > 0 && c.Disk.USB.Speed <= slowLink && p.LinkRate > 0 &&
		p.SequentialRead <= nearLink*p.LinkRate {
		all = append(all, LimitNotLink)
	}
	switch r.Access {
	case card.Cached:
		all = append(all, LimitCached)
	case card.Dropped:
		all = append(all, LimitDropped)
	}
	return all
}
