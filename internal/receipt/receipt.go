// Package receipt is the record of a run: what was done to which card, and how that went.
//
// A receipt is a JSON document; docs/formats.md describes it, and docs/schemas/receipt.json is its schema.
package receipt

import (
	"errors"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/document"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/stamp"
)

// MaxExtents bounds each list of extents in a receipt; a card with more is past listing, and Count tells
// how many there are.
const MaxExtents = 500

// Verdict sums up a run.
type Verdict string

// The verdicts.
const (
	Good        Verdict = "good"          // written, and read back right
	NotReadBack Verdict = "not read back" // written; reading back was turned off
	Failed      Verdict = "failed"        // the card, the image or the computer failed
	Interrupted Verdict = "interrupted"   // the user stopped it
	Differs     Verdict = "differs"       // a card that was stamped is not as it was
	Incomplete  Verdict = "not all read"  // a copy of a card of which some could not be read
	Counterfeit Verdict = "counterfeit"   // written, and read back right; but the card holds less than it claims
)

// Document is a receipt. Sizes and offsets are in bytes, times in seconds, rates in bytes a second.
type Document struct {
	File   string `json:"-"` // name of the file that it was read from
	Digest string `json:"-"` // SHA-256 of that file, in hex

	document.Head
	First   int       `json:"receipt,omitempty"` // 1 in receipts of the first version, which have no other head
	Tool    Tool      `json:"tool"`
	Job     string    `json:"job"` // "stamp", "gauge whole" and so on
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended"`
	Zone    int       `json:"zone,omitempty"` // seconds east of UTC that this computer's clock showed
	Verdict Verdict   `json:"verdict"`
	Error   string    `json:"error,omitempty"` // what failed, in the program's words
	Cause   Cause     `json:"cause,omitempty"` // the kind of that
	Image   Image     `json:"image,omitzero"`  // of a stamp
	Card    Card      `json:"card"`
	Bytes   Bytes     `json:"bytes"`
	Phases  []Phase   `json:"phases"`
	Speed   Speed     `json:"speed"`
	Repairs Repairs   `json:"repairs,omitzero"`
	Bad     Extents   `json:"bad,omitzero"` // what is wrong on a stamped card to the last
	// blocks that were right when they were read first, and not at the end
	Unsteady *Extents `json:"unsteady,omitempty"`
	Gauge    *Gauge   `json:"gauge,omitempty"` // of a test
	Blank    *Blank   `json:"blank,omitempty"` // of an empty card
	Recheck  *Recheck `json:"recheck,omitempty"`
	Save     *Save    `json:"save,omitempty"` // a copy of a card
	Pace     *Pace    `json:"pace,omitempty"`
	Mishaps  []Mishap `json:"mishaps,omitempty"`
	Loss     *Loss    `json:"loss,omitempty"`
	Spots    *Spots   `json:"spots,omitempty"` // of a stamp: the places that were tried before
	// Capacity is what marks beyond the image told of the card; of a stamp that was read back
	Capacity *Capacity `json:"capacity,omitempty"`
}

// Capacity is what is known of a card's capacity after a stamp.
type Capacity struct {
	Proven  bool  `json:"proven"`            // nothing shows a counterfeit, though all the marks were read
	Earlier bool  `json:"earlier,omitempty"` // an earlier receipt has the proof, so no marks were written
	Marks   int   `json:"marks,omitempty"`   // that were written beyond the image, and read
	Right   int   `json:"right,omitempty"`
	Odd     int   `json:"odd,omitempty"`   // that could not be written or read, or had some bits wrong
	Holds   int64 `json:"holds,omitempty"` // bytes, of a counterfeit
	Wraps   bool  `json:"wraps,omitempty"` // its addresses repeat after them; otherwise Holds is a lower bound
}

// capacityOf is what a stamp found out; nil where it wrote no marks.
func capacityOf(c stamp.Capacity) *Capacity {
	if c.Marks == 0 {
		return nil
	}
	out := &Capacity{Proven: c.Proven(), Marks: c.Marks, Right: c.Right, Odd: c.Odd}
	if c.Loss != nil {
		out.Holds, out.Wraps = c.Loss.Holds, c.Loss.Wraps
	}
	return out
}

// Spots is what trying places of a card found before it was stamped.
type Spots struct {
	Done    bool    `json:"done"`
	Why     string  `json:"why,omitempty"` // not
	Verdict string  `json:"verdict,omitempty"`
	Real    int64   `json:"real,omitempty"` // bytes that a card holds which holds less than it claims
	Written int64   `json:"written,omitempty"`
	Seconds float64 `json:"seconds,omitempty"`
}

// Tool is the program that wrote the receipt.
type Tool struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// Image is what was stamped.
type Image struct {
	Path       string            `json:"path"`
	Size       int64             `json:"size"`               // of the download
	Modified   string            `json:"modified,omitempty"` // of the download, by its file system
	URL        string            `json:"url,omitempty"`      // that it was fetched from, without user and query
	System     string            `json:"system,omitempty"`   // of a list of systems, as which it was fetched
	Release    string            `json:"system_version,omitempty"`
	Packing    string            `json:"packing"`
	Member     string            `json:"member,omitempty"`
	Unpacked   int64             `json:"unpacked,omitempty"` // size of the image, as far as it came
	Download   map[string]string `json:"download_digests"`   // algorithm to hex
	Image      map[string]string `json:"image_digests"`
	Published  []Published       `json:"published"`
	Signatures []Signature       `json:"signatures,omitempty"`
	Blocks     *Blocks           `json:"blocks,omitempty"` // of an image that was stamped
	Table      *Table            `json:"table,omitempty"`  // likewise
}

// Published is a digest that the image was compared with.
type Published struct {
	Algorithm string `json:"algorithm"`
	Hex       string `json:"hex"`
	File      string `json:"file,omitempty"`    // the sums file; none: the user gave the digest
	Line      int    `json:"line,omitempty"`    // in it
	Name      string `json:"name,omitempty"`    // that stands there
	Matched   string `json:"matched,omitempty"` // "download", "image" or "packed file"; none: neither
	Own       bool   `json:"own,omitempty"`     // nobody published it: it is of a copy of a card, when that was saved
}

// Card is what was stamped onto.
type Card struct {
	card.Record        // its DiskID is that of the partition table that was stamped
	OwnName     string `json:"own_name,omitempty"` // that a person had given to it
	Sector      int    `json:"sector"`
	Access      string `json:"access"`           // how reads got past the computer's memory
	State       string `json:"state,omitempty"`  // in which the card was left by a stamp
	Beyond      int64  `json:"beyond,omitempty"` // bytes behind the image

	// that are on it after a stamp, as far as they are known
	FileSystems []layout.FSKind `json:"file_systems,omitempty"`

	// Traffic is what the system had counted of a disk when the job ended; nil where it counts nothing
	Traffic *disks.Traffic `json:"traffic,omitempty"`

	Left string `json:"let_go,omitempty"`   // "ejected", "powered off"; none: neither
	Why  string `json:"not_left,omitempty"` // why not all of that was done that was wanted
}

// Mishap is an access that failed and went right when it was tried again, or a card that was gone and came back.
type Mishap struct {
	Op     string `json:"op"` // "read", "write", "return"
	Offset int64  `json:"offset,omitempty"`
	Error  string `json:"error"`
	Times  int    `json:"times,omitempty"` // how often it failed
	Name   string `json:"name,omitempty"`  // of a return: the name that the card has since
}

// Bytes counts what was moved.
type Bytes struct {
	Written   int64     `json:"written"`            // of the image, without what was written more than once
	Compared  int64     `json:"compared,omitempty"` // of it, read and compared before they were written
	Spared    Spared    `json:"spared,omitzero"`
	Discarded Discarded `json:"discarded,omitzero"`
	// Total is everything that was written to the card, bytes: places that were tried, the marker, what was written
	// more than once, repairs.
	Total    int64 `json:"total,omitempty"`
	Verified int64 `json:"verified"` // read back right
	Cleared  int64 `json:"cleared"`  // of an old backup partition table

	// Displaced is how much was written after what a stamp read back; a memory of the card that is larger may have
	// answered. nil where nothing was read back.
	Displaced *int64 `json:"displaced,omitempty"`
}

func discardedOf(r stamp.Result) Discarded {
	d := Discarded{Rest: r.Rest}
	switch {
	case errors.Is(r.NotDiscarded, errors.ErrUnsupported):
		d.Why = "the card or its reader takes no discards"
	case r.NotDiscarded != nil:
		d.Why = r.NotDiscarded.Error()
	}
	return d
}

// Spared are bytes of the image that were not written.
type Spared struct {
	Same int64 `json:"same"` // the card held them already
}

// Discarded are bytes of the card that were discarded.
type Discarded struct {
	Image int64  `json:"image"`              // of the image's place: earlier versions did that
	Rest  int64  `json:"rest,omitempty"`     // beyond the image
	Why   string `json:"not_rest,omitempty"` // why not all beyond it was, where that was wanted
}

// Phase is how long a part of the work took.
type Phase struct {
	Phase   string  `json:"phase"`
	Bytes   int64   `json:"bytes"`
	Seconds float64 `json:"seconds"`
	Rate    float64 `json:"rate"`                   // 0 where no bytes were counted
	Card    float64 `json:"card_seconds,omitempty"` // of these, the card was at work
}

// Speed is the speed over position, at most meter.MaxPoints points each.
type Speed struct {
	Write    []Point `json:"write"`
	ReadBack []Point `json:"read_back"`
}

// Point is the speed of a stretch that starts at Offset.
type Point struct {
	Offset int64   `json:"offset"`
	Rate   float64 `json:"rate"`
}

// Repairs are the blocks that read back right only after they were written again.
type Repairs struct {
	Allowed int     `json:"allowed"` // rounds
	Rounds  int     `json:"rounds"`  // done
	Blocks  Extents `json:"blocks"`
}

// Extents lists stretches of the card, at most MaxExtents of them.
type Extents struct {
	Count int             `json:"count"` // of all
	List  []layout.Extent `json:"list"`
}

// Loss is what the bad blocks look like, if the card seems to hold less than it claims.
type Loss struct {
	Wraps bool  `json:"wraps"`
	Holds int64 `json:"holds"`
}

// From is what was downloaded, or a folder.
type From struct {
	Path     string
	Size     int64 // bytes
	Modified string
}

// FromFile is a file that was downloaded.
func FromFile(f *image.File) From { return From{f.Path, f.Size, f.ModTime()} }

// New fills in what the parts of a run say of it. d is nil for a card that was never opened. The caller adds what is
// its own: tool, times, verdict, sentence, error and exit status.
func New(f From, report check.Report, c *card.Card, d card.Device, repairs int, r stamp.Result) Document {
	doc := Document{
		Job: JobStamp,
		Image: Image{
			Path: f.Path, Size: f.Size, Modified: f.Modified, Packing: report.Packing, Member: report.Member,
			Unpacked: r.Size, Download: Digests(r.Download, report.Download), Image: Digests(r.Image, report.Image),
			Published: PublishedOf(report), Signatures: SignaturesOf(report),
		},
		Card: cardOf(c, c.Size, c.SectorSize, card.Unopened),
		Bytes: Bytes{
			Written: r.Written, Compared: r.Compared, Spared: Spared{r.Kept},
			Discarded: discardedOf(r), Verified: r.Verified,
			Cleared: r.Cleared,
		},
		Phases:  phasesOf(r.Phases),
		Speed:   Speed{pointsOf(r.Writing), pointsOf(r.Reading)},
		Repairs: Repairs{repairs, r.Attempts, extentsOf(r.Repaired)},
		Bad:     extentsOf(r.Bad),
		Mishaps: mishapsOf(r.Mishaps),
	}
	if d != nil {
		doc.Card = cardOf(c, d.Size(), d.SectorSize(), d.Access())
	}
	doc.Card.State = string(r.State)
	if r.State == stamp.Verified {
		doc.Bytes.Displaced = &r.Displaced
	}
	if r.State == stamp.Verified || r.State == stamp.Complete {
		doc.Image.Blocks = BlocksOf(r.Blocks, r.Head)
	}
	doc.Capacity = capacityOf(r.Capacity)
	if len(r.Unsteady) > 0 {
		list := extentsOf(r.Unsteady)
		doc.Unsteady = &list
	}
	if r.Loss != nil {
		doc.Loss = &Loss{r.Loss.Wraps, r.Loss.Holds}
	}
	return doc
}

// newDocument is a receipt with nothing in it yet.
func newDocument(job string, c Card) Document {
	return Document{Job: job, Card: c, Phases: []Phase{}, Speed: Speed{[]Point{}, []Point{}}}
}

// cardOf is what is known of a card.
func cardOf(c *card.Card, size int64, sector int, access card.Access) Card {
	out := Card{Record: c.Record(), Sector: sector, Access: string(access)}
	out.Size = size
	return out
}

func mishapsOf(mishaps []card.Mishap) (out []Mishap) {
	for _, m := range mishaps {
		one := Mishap{Op: m.Op, Offset: m.Offset, Error: m.Err.Error(), Times: m.Times, Name: m.Name}
		if m.Op == "" {
			one.Op = "return"
		}
		out = append(out, one)
	}
	return out
}

// AddCheck puts the check of the download, of so many bytes, before the other phases; a check that took no time was
// none.
func (d *Document) AddCheck(bytes int64, took time.Duration) {
	if took > 0 {
		d.Phases = slices.Insert(d.Phases, 0, Phase{
			Phase: string(meter.Check), Bytes: bytes, Seconds: took.Seconds(), Rate: rate(bytes, took),
		})
	}
}

// Digests lists digests as receipts do: hex by algorithm. Of two with the same algorithm, the later counts.
func Digests(lists ...[]digest.Digest) map[string]string {
	out := map[string]string{}
	for _, list := range lists {
		for _, d := range list {
			out[d.Algorithm.Plain()] = d.Hex()
		}
	}
	return out
}

// Signature is a signature that was checked.
type Signature struct {
	Of          string `json:"of"`
	File        string `json:"file"`
	Format      string `json:"format"`
	KeyID       string `json:"key_id"`
	Status      string `json:"status"`
	Why         string `json:"why,omitempty"`
	Owner       string `json:"owner,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
	Kept        bool   `json:"kept,omitempty"` // the key is one that the user keeps
}

// SignaturesOf lists what a report has of signatures.
func SignaturesOf(r check.Report) []Signature {
	var out []Signature
	for _, s := range r.Signatures {
		one := Signature{
			Of: s.Of, File: s.File, Format: string(s.Format), KeyID: s.KeyID, Status: string(s.Status), Why: s.Why,
		}
		if s.Key != nil {
			one.Owner, one.Fingerprint, one.Kept = s.Key.Owner, s.Key.Fingerprint, s.Key.Kept
		}
		out = append(out, one)
	}
	return out
}

// PublishedOf lists what a report has of published digests.
func PublishedOf(r check.Report) []Published {
	out := []Published{}
	own := r.IsOwn()
	for _, h := range r.Published {
		out = append(out, Published{
			h.Algorithm.Plain(), h.Hex(), h.From, h.Line, h.File, string(h.Matched), own && h.Matched != check.Neither,
		})
	}
	return out
}

// Rates are how fast the card wrote and read, bytes a second; 0 where the receipt doesn't say that.
func (d Document) Rates() (write, read float64) {
	if d.Pace != nil {
		return d.Pace.SequentialWrite, d.Pace.SequentialRead
	}
	for _, p := range d.Phases {
		switch {
		case p.Phase == string(meter.Write) && p.Card > 0:
			write = float64(p.Bytes) / p.Card
		case p.Phase == string(meter.Write):
			write = p.Rate
		case p.Phase == string(meter.ReadBack):
			read = p.Rate
		}
	}
	return write, read
}

func phasesOf(phases []meter.PhaseTime) []Phase {
	out := []Phase{}
	for _, p := range phases {
		out = append(out, Phase{
			string(p.Phase), p.Bytes, p.Took.Seconds(), rate(p.Bytes, p.Took), p.Card.Seconds(),
		})
	}
	return out
}

func pointsOf(points []meter.Point) []Point {
	out := []Point{}
	for _, p := range points {
		out = append(out, Point{p.Offset, rate(p.Bytes, p.Took)})
	}
	return out
}

// rate is in bytes a second; 0 where no time passed.
func rate(bytes int64, took time.Duration) float64 {
	if took <= 0 {
		return 0
	}
	return float64(bytes) / took.Seconds()
}

func extentsOf(extents []layout.Extent) Extents {
	return Extents{Count: len(extents), List: append([]layout.Extent{}, extents[:min(len(extents), MaxExtents)]...)}
}
