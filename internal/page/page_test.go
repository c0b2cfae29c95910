package page

import (
	"bytes"
	"encoding/xml"
	"image/png"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/document"
	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
)

func counterfeit() receipt.Document {
	access := receipt.Access{
		Count: 30, Median: 0.001, P95: 0.002, P99: 0.003, Worst: 0.3, WorstAt: 1e9,
		Histogram: []receipt.Bar{{Below: 0.001, Count: 10}, {Below: 0.002, Count: 19}, {Below: 1.5, Count: 1}},
	}
	return receipt.Document{
		Job: receipt.JobWhole, Verdict: "counterfeit", Head: document.Head{Sentence: `sdb & "co" is <counterfeit>.`},
		Tool: receipt.Tool{Name: "zipstamp", Version: "1"}, Started: time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC),
		Ended: time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC),
		Card: receipt.Card{
			Record: card.Record{
				Name: "sdb", Path: "/dev/sdb", Kind: "block device", Size: 2e12, Model: "Bargain <2T>",
				Serial: "SW-0099",
			}, Access: "direct",
		},
		Phases: []receipt.Phase{{Phase: "write", Bytes: 33e9, Seconds: 1600, Rate: 20e6}},
		Speed: receipt.Speed{
			Write:    []receipt.Point{{Offset: 0, Rate: 20e6}, {Offset: 16e9, Rate: 19e6}},
			ReadBack: []receipt.Point{{Offset: 0, Rate: 80e6}},
		},
		Gauge: &receipt.Gauge{
			Method: "whole", Verdict: "counterfeit", Claimed: 2e12, Tested: 2e12, Holds: 32e9,
			Loss: &receipt.CardLoss{Real: 32e9, Exact: true, ReadsAs: "zeros"}, Early: 33e9,
			Extents: []gauge.Stretch{
				{Extent: layout.Extent{Offset: 0, Length: 32e9}, State: "holds"},
				{Extent: layout.Extent{Offset: 32e9, Length: 2e12 - 32e9}, State: "lost"},
			}, Count: 2, Nonce: "00", Reads: access, Writes: access,
		},
	}
}

// TestPageNeedsNothingElse has a page well-formed, with all that it is to have, and nothing that is to be fetched or
// run.
func TestPageNeedsNothingElse(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, HTML(&b, counterfeit(), "abcdef0123"))
	text := b.String()
	for _, has := range []string{
		"sdb &amp; &#34;co&#34; is &lt;counterfeit&gt;.", "Bargain &lt;2T&gt;", "SW-0099",
		"32.0 GB (32,000,000,000 bytes)", "it reads as zeros", "<svg", "Speed over position", "Access times",
		"How this was found", "Each piece of 512 bytes that was written identifies itself", "abcdef0123", "@page",
		"prefers-color-scheme: dark", "2,000,000,000,000", "all that is real was read back", "Give it back.",
	} {
		assert.Contains(t, text, has)
	}
	for _, not := range []string{
		"<script", "http://", "https://", "@import", "url(", "<link", "<img", "receipts export",
	} {
		assert.NotContains(t, strings.ReplaceAll(text, `xmlns="http://www.w3.org/2000/svg"`, ""), not)
	}
	for part := range strings.SplitSeq(text, "<svg") {
		body, _, ok := strings.Cut(part, "</svg>")
		if !ok {
			continue
		}
		d := xml.NewDecoder(strings.NewReader("<svg" + body + "</svg>"))
		for {
			_, err := d.Token()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
		}
	}
	for _, doc := range []receipt.Document{
		{
			Job: receipt.JobStamp, Verdict: receipt.Good, Head: document.Head{Sentence: "Stamped."},
			Image: receipt.Image{Path: "a.img"},
		},
		{
			Job: receipt.JobRecheck, Verdict: receipt.Differs,
			Recheck: &receipt.Recheck{Areas: []receipt.Change{{Name: "x", Why: "y"}}},
		},
		{Job: receipt.JobBlank, Verdict: receipt.Good, Blank: &receipt.Blank{}},
		{Job: receipt.JobPace, Verdict: receipt.Good, Pace: &receipt.Pace{}},
		{Job: receipt.JobSpots, Verdict: "counterfeit", Gauge: &receipt.Gauge{Loss: &receipt.CardLoss{}}},
	} {
		require.NoError(t, HTML(io.Discard, doc, ""), doc.Job)
		require.NoError(t, Picture(io.Discard, doc, ""), doc.Job)
	}
}

// TestPictureShowsTheRuler looks at the pixels: what holds is solid at the card's start, and what is lost is empty.
func TestPictureShowsTheRuler(t *testing.T) {
	doc := counterfeit()
	doc.Gauge.Claimed = 64e9
	doc.Gauge.Extents = []gauge.Stretch{
		{Extent: layout.Extent{Offset: 0, Length: 32e9}, State: "holds"},
		{Extent: layout.Extent{Offset: 32e9, Length: 32e9}, State: "lost"},
	}
	var b bytes.Buffer
	require.NoError(t, Picture(&b, doc, "abc"))
	img, err := png.Decode(&b)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, img.Bounds().Dx(), 1280)
	colour := func(x, y int) Ink {
		r, g, bl, _ := img.At(x, y).RGBA()
		for ink, c := range colours {
			if uint32(c.R) == r>>8 && uint32(c.G) == g>>8 && uint32(c.B) == bl>>8 {
				return ink
			}
		}
		return ""
	}
	solid, empty := 0, 0
	for y := range 600 {
		if colour(400, y) == Holds {
			solid++
			if colour(1200, y) == Paper {
				empty++
			}
		}
	}
	assert.GreaterOrEqual(t, solid, 70, "the bar is 40 high, twice as many pixels")
	assert.Equal(t, solid, empty)
}
