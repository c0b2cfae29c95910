package receipt

import (
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/document"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/spots"
)

// The jobs that receipts are of.
const (
	JobStamp   = "stamp"
	JobSpots   = "gauge spots"
	JobWhole   = "gauge whole"
	JobSpace   = "gauge space"
	JobPace    = "pace"
	JobBlank   = "blank"
	JobSave    = "save"
	JobRecheck = "recheck"
)

// Gauge is what a test of a card found. Sizes and offsets are in bytes, times in seconds.
type Gauge struct {
	Method  string          `json:"method"`
	Verdict string          `json:"verdict"`
	Claimed int64           `json:"claimed"`
	Tested  int64           `json:"tested"` // the first so many bytes
	Holds   int64           `json:"holds"`  // of those tested, as far as is known
	Loss    *CardLoss       `json:"loss,omitempty"`
	Limit   int64           `json:"limit,omitempty"`  // beyond it every access failed
	Bad     gauge.Counts    `json:"bad"`              // sectors
	Extents []gauge.Stretch `json:"extents"`          // at most MaxExtents
	Count   int             `json:"extents_count"`    // of all
	Tried   int             `json:"tried,omitempty"`  // places that were chosen
	Places  int             `json:"places,omitempty"` // those of them chosen by chance that are right
	Share   float64         `json:"share,omitempty"`  // of the range that answers at least, with the confidence level
	Level   float64         `json:"confidence,omitempty"`
	Changed int64           `json:"not_put_back,omitempty"` // places
	// written after what was read, so that a memory of that size can't have answered
	Displaced int64    `json:"displaced,omitempty"`
	Stuck     *int64   `json:"no_writes_from,omitempty"` // from there on it took no writes any more
	Early     int64    `json:"early,omitempty"`          // where the head was when the loss was found
	Resumed   bool     `json:"carried_on,omitempty"`
	Unkept    int64    `json:"unkept,omitempty"` // bytes written before an interruption, and not there afterwards
	Nonce     string   `json:"nonce"`
	Seed      uint64   `json:"seed,omitempty"`
	Written   int64    `json:"written"`
	Read      int64    `json:"read"`
	Reads     Access   `json:"reads"`
	Writes    Access   `json:"writes"`
	Slowest   *Slow    `json:"slowest,omitempty"`
	Meets     []string `json:"meets,omitempty"` // marks
}

// CardLoss is how a card holds less than it claims.
type CardLoss struct {
	Repeats  bool         `json:"repeats"`
	Real     int64        `json:"real"` // from the start
	Tail     int64        `json:"tail,omitempty"`
	Exact    bool         `json:"exact"`
	Most     int64        `json:"most,omitempty"`     // the most that real can be, where it is not exact; 0: not known
	Anywhere bool         `json:"anywhere,omitempty"` // addresses don't tell what is kept
	ReadsAs  gauge.LostAs `json:"reads_as,omitempty"`
	Cached   int64        `json:"answered_from_memory,omitempty"`
}

// Access is how long single accesses took.
type Access struct {
	Count     int64   `json:"count"`
	Median    float64 `json:"median"`
	P95       float64 `json:"p95"`
	P99       float64 `json:"p99"`
	Worst     float64 `json:"worst"`
	WorstAt   int64   `json:"worst_at"`
	Histogram []Bar   `json:"histogram"`
}

// Bar is a step of a histogram.
type Bar struct {
	Below float64 `json:"below"` // seconds
	Count int64   `json:"count"`
}

// Slow is the slowest stretch that was written.
type Slow struct {
	Rate float64 `json:"rate"` // bytes a second
	At   int64   `json:"at"`
}

// Level of confidence that is stated.
const Level = 0.98

// NewGauge fills in what a report says. The caller adds what is its own: tool, times, sentence, error and exit status.
func NewGauge(job string, c *card.Card, r *gauge.Report) Document {
	g := &Gauge{
		Method: string(r.Method), Verdict: string(r.Verdict), Claimed: r.Claimed, Tested: r.Tested, Holds: r.Tested,
		Limit: r.Limit, Bad: r.Bad, Count: len(r.Extents),
		Extents: append([]gauge.Stretch{}, r.Extents[:min(len(r.Extents), MaxExtents)]...), Tried: r.Tried,
		Places: r.Places, Changed: r.Changed, Displaced: r.Displaced, Early: r.Early, Resumed: r.Resumed,
		Unkept: r.Unkept,
		Nonce:  r.Nonce.String(), Seed: r.Seed, Written: r.Written, Read: r.Read, Reads: accessOf(&r.Reads),
		Writes: accessOf(&r.Writes),
	}
	if l := r.Loss; l != nil {
		g.Loss = &CardLoss{
			Repeats: l.Repeats, Real: l.Real, Tail: l.Tail, Exact: l.Exact, Most: l.Most, Anywhere: l.Anywhere,
			ReadsAs: l.ReadsAs, Cached: l.Cached,
		}
		g.Holds = l.Holds()
	}
	if r.Method == gauge.BySpots && r.Verdict == gauge.Holds {
		g.Level, g.Share = Level, spots.Confidence(r.Places, Level)
	}
	if rate, at := gauge.Slowest(r.Writing); rate > 0 {
		g.Slowest, g.Meets = &Slow{rate, at}, gauge.Meets(rate, 0, 0)
	}
	doc := newDocument(job, cardOf(c, c.Size, c.SectorSize, r.Access))
	doc.Verdict, doc.Gauge, doc.Mishaps, doc.Bytes.Written = Verdict(r.Verdict), g, mishapsOf(r.Mishaps), r.Written
	doc.Speed = Speed{pointsOf(r.Writing), pointsOf(r.Reading)}
	doc.Phases = phasesOf(r.Phases)
	return doc
}

func accessOf(t *gauge.Times) (a Access) {
	seconds := func(share float64) float64 { return t.Percentile(share).Seconds() }
	worst, at := t.Worst()
	a = Access{
		Count: t.Count(), Median: seconds(0.5), P95: seconds(0.95), P99: seconds(0.99), Worst: worst.Seconds(),
		WorstAt: at, Histogram: []Bar{},
	}
	for _, b := range t.Histogram() {
		a.Histogram = append(a.Histogram, Bar{b.Below.Seconds(), b.Count})
	}
	return a
}

// End adds how a job ended. words are what failed, as the program says it.
func (d *Document) End(tool Tool, started, ended time.Time, sentence string, exit int, err error, words string) {
	d.Head = document.New(document.Receipt, exit, sentence)
	d.Tool, d.Started, d.Ended = tool, started.UTC(), ended.UTC()
	_, d.Zone = ended.Zone()
	if err != nil {
		d.Error, d.Cause = words, causeOf(err)
	}
}
