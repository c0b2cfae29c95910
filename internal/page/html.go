package page

import (
	_ "embed"
	"html/template"
	"io"
	"slices"
	"strconv"
	"strings"

	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("page").Parse(pageText))

// content is what the template is filled with.
type content struct {
	Sentence, Title, Mood, Verdict, When string
	Plainly                              string   // what it means, for anybody
	Shop                                 []string // what the buyer fills in
	Card, Facts, Record                  []view.Fact
	Ruler, Speed                         template.HTML
	Histograms                           []template.HTML
	Extents                              []Row
	More                                 int
	Method, Notes                        []string
	Digest                               string
}

// Row is a stretch of the card in the table.
type Row struct{ From, To, Length, State string }

// maxRows is how many stretches are listed on a page.
const maxRows = 40

// HTML writes a receipt as one page that needs nothing else. digest is that of the record, as it is kept.
func HTML(w io.Writer, doc receipt.Document, digest string) error {
	c := contentOf(doc, digest)
	return pageTemplate.Execute(w, c)
}

func contentOf(doc receipt.Document, digest string) content {
	c := content{
		Sentence: doc.Sentence, Title: titles[doc.Job] + " " + doc.Card.Name, Verdict: view.Finding(doc),
		Mood: string(view.MoodOf(doc)), When: view.Day(doc.Ended), Digest: digest, Card: cardFacts(doc),
		Plainly: view.Plainly(doc), Shop: view.ForTheShop(doc),
		Facts: view.Facts(doc), Record: recordFacts(doc), Method: view.Method(doc), Notes: view.Notes(doc),
	}
	if len(doc.Speed.Write)+len(doc.Speed.ReadBack) > 1 {
		c.Speed = svg(Curve(doc.Speed, doc.Card.Size), "Speed over position")
	}
	if g := doc.Gauge; g != nil {
		if g.Loss == nil || g.Loss.Exact {
			c.Ruler = svg(Ruler(g), "The card from start to end: "+doc.Sentence)
		}
		for _, e := range g.Extents[:min(len(g.Extents), maxRows)] {
			c.Extents = append(c.Extents, Row{
				view.Place(e.Offset), view.Place(e.Offset + e.Length), view.Bytes(e.Length), string(e.State),
			})
		}
		c.More = g.Count - len(c.Extents)
	}
	reads, writes := access(doc)
	if reads.Count > 0 {
		c.Histograms = append(c.Histograms,
			svg(Histogram(reads, "reads: how many took how long"), "Access times of reads"))
	}
	if writes.Count > 0 {
		c.Histograms = append(c.Histograms,
			svg(Histogram(writes, "writes: how many took how long"), "Access times of writes"))
	}
	return c
}

// access gives the access times of a receipt, where it has some.
func access(doc receipt.Document) (reads, writes receipt.Access) {
	switch {
	case doc.Gauge != nil:
		return doc.Gauge.Reads, doc.Gauge.Writes
	case doc.Pace != nil:
		return doc.Pace.Reads, doc.Pace.Writes
	}
	return reads, writes
}

func svg(f Figure, title string) template.HTML {
	return template.HTML(f.SVG(title)) //nolint:gosec // its texts are escaped
}

// titles of pages, by job.
var titles = map[string]string{
	receipt.JobStamp: "Stamp of", receipt.JobSpots: "Test of places of", receipt.JobWhole: "Test of every block of",
	receipt.JobSpace: "Test of the free space of", receipt.JobPace: "Pace of", receipt.JobBlank: "Blank card",
	receipt.JobSave:    "Copy of",
	receipt.JobRecheck: "Recheck of",
}

func cardFacts(doc receipt.Document) []view.Fact {
	d := doc.Card
	return slices.DeleteFunc([]view.Fact{
		fact("name", d.Name), fact("called", d.OwnName), fact("claims", view.Exact(d.Size)),
		fact("sold as", view.SoldAs(d.Size)), fact("says it is", d.Model),
		fact("serial number", d.Serial), fact("register CID", d.CID),
		fact("reached by", strings.Join(nonEmpty(string(d.Kind), d.Bus), ", ")),
	}, func(f view.Fact) bool { return f.Text == "" })
}

func fact(label, text string) view.Fact { return view.Fact{Label: label, Text: text} }

func nonEmpty(texts ...string) []string {
	return slices.DeleteFunc(texts, func(t string) bool { return t == "" })
}

func recordFacts(doc receipt.Document) []view.Fact {
	facts := []view.Fact{
		fact("begun", view.Day(doc.Started)), fact("ended", view.Day(doc.Ended)),
		fact("made by", doc.Tool.Name+" "+doc.Tool.Version), fact("exit status", strconv.Itoa(doc.Exit)),
	}
	if g := doc.Gauge; g != nil {
		facts = append(facts, fact("nonce of the test", g.Nonce))
		if g.Seed != 0 {
			facts = append(facts, fact("seed of the places", strconv.FormatUint(g.Seed, 10)))
		}
	}
	return facts
}
