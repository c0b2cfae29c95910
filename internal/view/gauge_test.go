package view

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/document"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/whole"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/recheck"
)

func TestGaugeSentences(t *testing.T) {
	for want, c := range map[string]struct {
		rep *gauge.Report
		err error
	}{
		"sdb holds what it claims: all 64.0 GB were written and read back right.": {
			&gauge.Report{Method: gauge.ByWhole, Verdict: gauge.Holds, Tested: 64e9}, nil,
		},
		"The first 32.0 GB of sdb hold what is written: every block was written and read back right.": {
			&gauge.Report{Method: gauge.ByWhole, Verdict: gauge.Holds, Tested: 32e9}, nil,
		},
		"sdb seems to hold what it claims: all places that were tried in 64.0 GB hold what was written.": {
			&gauge.Report{Method: gauge.BySpots, Verdict: gauge.Holds, Tested: 64e9}, nil,
		},
		"sdb is counterfeit: it holds 8.00 GB of the 64.0 GB that it claims; what is written beyond is lost.": {
			&gauge.Report{Verdict: gauge.Counterfeit, Tested: 64e9, Loss: &gauge.Loss{Real: 8e9, Exact: true}}, nil,
		},
		"sdb is counterfeit: it claims 64.0 GB, and keeps nothing of what is written to it.": {
			&gauge.Report{Verdict: gauge.Counterfeit, Tested: 64e9, Loss: &gauge.Loss{Exact: true}}, nil,
		},
		"sdb is counterfeit: it loses what is written here and there, so it holds less than the 64.0 GB that it " +
			"claims.": {
			&gauge.Report{Verdict: gauge.Counterfeit, Tested: 64e9, Loss: &gauge.Loss{Anywhere: true}}, nil,
		},
		"sdb is counterfeit: it claims 64.0 GB, and keeps at most 36.0 MB of what was written last.": {
			&gauge.Report{Verdict: gauge.Counterfeit, Tested: 64e9, Loss: &gauge.Loss{Anywhere: true, Most: 36e6}}, nil,
		},
		"sdb is counterfeit: it claims 64.0 GB, and keeps about 500 MB, wherever that is written (from 400 MB to 600 " +
			"MB).": {
			&gauge.Report{
				Verdict: gauge.Counterfeit, Tested: 64e9, Loss: &gauge.Loss{Anywhere: true, Real: 400e6, Most: 600e6},
			}, nil,
		},
		"sdb is counterfeit: it holds about 7.50 GB of the 64.0 GB that it claims (from 7.00 GB to 8.00 GB).": {
			&gauge.Report{Verdict: gauge.Counterfeit, Tested: 64e9, Loss: &gauge.Loss{Real: 7e9, Most: 8e9}}, nil,
		},
		"The test of sdb came to no result: from 268 MB on it took no writes any more, as worn-out cards do.": {
			&gauge.Report{Verdict: gauge.Inconclusive}, &card.StuckError{Offset: 268e6, Err: fault.BadPlace},
		},
		"sdb is counterfeit: it holds 8.00 GB of the 64.0 GB that it claims; what is written beyond overwrites what " +
			"is there. It is faulty too: below that, 1 sector has wrong bits (2 bits in all), so it can't be trusted " +
			"for anything.": {
			&gauge.Report{
				Verdict: gauge.Counterfeit, Tested: 64e9, Loss: &gauge.Loss{Real: 8e9, Repeats: true, Exact: true},
				Bad: gauge.Counts{Worn: 1, Bits: 2},
			}, nil,
		},
		"sdb is faulty: its size is right, but 3 sectors can't be read, 1 sector can't be written, and 2 sectors do " +
			"not keep what is written.": {
			&gauge.Report{
				Verdict: gauge.Faulty, Tested: 64e9, Bad: gauge.Counts{Unreadable: 3, Unwritable: 1, Lost: 2},
			}, nil,
		},
		"sdb is faulty: in the first 1.00 GB, 1 sector can't be read.": {
			&gauge.Report{Verdict: gauge.Faulty, Tested: 1e9, Bad: gauge.Counts{Unreadable: 1}}, nil,
		},
		"sdb is unsteady: 4 sectors did not read the same twice, or failed once and then went right.": {
			&gauge.Report{Verdict: gauge.Unsteady, Tested: 64e9, Bad: gauge.Counts{Unsteady: 4}}, nil,
		},
		"The test of sdb was interrupted, and came to no result.": {
			&gauge.Report{Verdict: gauge.Inconclusive}, ErrInterrupted,
		},
		"The test of sdb came to no result: it was pulled out, or its reader was.": {
			&gauge.Report{Verdict: gauge.Inconclusive}, &card.GoneError{Card: "sdb", Err: fault.Gone},
		},
		"The test of sdb came to no result beyond 32.0 GB: everything there fails, and all below holds what was " +
			"written.": {&gauge.Report{Verdict: gauge.Inconclusive, Limit: 32e9}, nil},
		"The test of sdb came to no result: sdb failed to read at 5.00 GB (input/output error).": {
			&gauge.Report{Verdict: gauge.Inconclusive},
			&card.IOError{Op: "read", Card: "sdb", Offset: 5e9, Err: fault.BadPlace},
		},
	} {
		c.rep.Claimed = 64e9
		assert.Equal(t, want, GaugeSentence("sdb", c.rep, c.err))
	}
	assert.Equal(t, "The card under /media/TIDES loses data: of 8.00 GB written to its free space, 1.00 GB came back.",
		SpaceSentence("/media/TIDES", &gauge.Report{
			Verdict: gauge.Counterfeit, Tested: 8e9, Loss: &gauge.Loss{Real: 1e9},
		}, nil))
	faulty := &gauge.Report{Verdict: gauge.Faulty, Tested: 8e9, Bad: gauge.Counts{Unreadable: 3}}
	assert.Equal(
		t, "The card under /media/TIDES is faulty: of 8.00 GB written to its free space, 3 sectors can't be read.",
		SpaceSentence("/media/TIDES", faulty, nil),
	)
	assert.Equal(t,
		"The card under /media/TIDES is faulty: of what was written to its free space, 3 sectors can't be read.",
		SpaceSentence("/media/TIDES", faulty, ErrInterrupted))
}

func TestRecheckSentences(t *testing.T) {
	differs := recheck.Report{
		Differs: []layout.Extent{{Offset: 0, Length: 512}}, Areas: []recheck.Area{{Started: true}},
	}
	assert.Equal(
		t,
		"sdb has been started, or written to, since it was stamped: it differs from a.img only in places where that "+
			"is expected.", RecheckSentence("sdb", "a.img", false, &differs, nil),
	)
	differs.Areas = []recheck.Area{{}}
	assert.Equal(
		t, "sdb is not as it was stamped: it differs from a.img in places that starting a board does not change.",
		RecheckSentence("sdb", "a.img", false, &differs, nil),
	)
	assert.Equal(t, "sdb is not as it was stamped: 4.19 MB of it can't be read.",
		RecheckSentence("sdb", "a.img", false, &recheck.Report{Failed: []layout.Extent{{Length: 4 << 20}}}, nil))
	assert.Equal(t, "sdb can't hold a.img: it has 1.00 GB, and the image 2.00 GB or more.",
		RecheckSentence("sdb", "a.img", false, &recheck.Report{}, &recheck.ShortError{Card: 1e9, Image: 2e9}))
	assert.Equal(t, "The recheck of sdb came to no result: tide.",
		RecheckSentence("sdb", "a.img", false, &recheck.Report{}, errors.New("tide")))
}

// TestReceiptsAreShownAtAnyWidth shows one of each kind in lines that fit.
func TestReceiptsAreShownAtAnyWidth(t *testing.T) {
	access := receipt.Access{Count: 1234567, Median: 0.0012, P95: 0.02, P99: 0.3, Worst: 4, WorstAt: 1.9e12}
	common := receipt.Card{
		Record: card.Record{
			Name: "mmcblk0", Size: 2e12, Kind: "block device", Bus: "SD slot", Model: "Bargain 2T of a long name",
		}, Access: "cached",
	}
	for _, doc := range []receipt.Document{
		{
			Job: receipt.JobWhole, Verdict: "counterfeit", Head: document.Head{Sentence: "mmcblk0 is counterfeit."},
			Card:    common,
			Mishaps: []receipt.Mishap{{Op: "read", Offset: 5e9, Error: "x"}, {Op: "return", Name: "sdx", Error: "x"}},
			Phases: []receipt.Phase{
				{Phase: "write", Bytes: 33e9, Seconds: 900, Rate: 3e7}, {Phase: "flush", Seconds: 3},
			},
			Gauge: &receipt.Gauge{
				Method: "whole", Verdict: "counterfeit", Claimed: 2e12, Holds: 32e9,
				Loss: &receipt.CardLoss{Real: 32e9, Exact: true, ReadsAs: "zeros", Cached: 64e6}, Count: 40,
				Extents: slicesOf(gauge.Stretch{Extent: layout.Extent{Length: 5e10}, State: "holds"}, 40),
				Reads:   access, Writes: access, Slowest: &receipt.Slow{Rate: 2.1e7, At: 3e9},
				Meets: []string{"Class 10", "U1", "V10"},
			},
		},
		{
			Job: receipt.JobSpots, Verdict: "holds what it claims", Head: document.Head{Sentence: "It seems so."},
			Card: common, Phases: []receipt.Phase{{Phase: "save", Bytes: 4e6, Seconds: 2}},
			Gauge: &receipt.Gauge{
				Method: "spots", Verdict: "holds what it claims", Claimed: 2e12, Tested: 1e12, Level: 0.98,
				Share: 0.995, Places: 800, Reads: access, Changed: 3,
			},
		},
		{
			Job: receipt.JobRecheck, Verdict: receipt.Differs, Head: document.Head{Sentence: "It differs."},
			Card: common, Image: receipt.Image{Path: "/a/saltmarsh-os.img.xz"},
			Recheck: &receipt.Recheck{
				Against: "receipt", Stamped: "2026-11-26T10:00:00Z", Differ: 5e6, Unit: 4 << 20,
				Extents: receipt.Extents{Count: 3},
				Areas: slicesOf(receipt.Change{
					Name:  "partition 1 (FAT32, \"BOOT\"): file a-long-name-of-a-kernel-image-for-brindle.img",
					Bytes: 512, Why: "it is dated from before the card was stamped",
				}, 30),
			},
		},
		{
			Job: receipt.JobBlank, Verdict: receipt.Good, Head: document.Head{Sentence: "It is empty."}, Card: common,
			Blank: &receipt.Blank{Start: 4 << 20, Size: 1e12},
		},
		{
			Job: receipt.JobPace, Verdict: receipt.Good, Head: document.Head{Sentence: "It is fast."}, Card: common,
			Pace: &receipt.Pace{
				Reads: access, Writes: access,
				Limits: []receipt.Limit{"the reader: its link, USB at 480 Mbit/s, carries at most 53 MB/s"},
			},
		},
		{
			Job: receipt.JobStamp, Verdict: receipt.Good, Head: document.Head{Sentence: "Stamped."}, Card: common,
			Image: receipt.Image{
				Path: "/a/saltmarsh-os.img.xz", Unpacked: 5e9,
				Image:     map[string]string{"sha256": strings.Repeat("ab", 32)},
				Published: []receipt.Published{{Algorithm: "sha256", File: "SHA256SUMS", Matched: "image"}},
			}, Spots: &receipt.Spots{Why: "turned off"},
		},
	} {
		for _, width := range []int{40, 57, 80, 100} {
			var out bytes.Buffer
			v := NewScreen(Streams{Out: &out, Err: &out, Environ: []string{"LANG=C.UTF-8"}, NoColor: true})
			v.width = width
			v.Document(doc, "~/.local/state/zipstamp/receipts/x.json")
			lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
			assert.Equal(t, doc.Sentence, lines[0])
			for _, l := range lines {
				if !strings.Contains(l, "/receipts/") { // paths are never broken
					assert.LessOrEqual(t, len([]rune(l)), width, "%s at %d: %q", doc.Job, width, l)
				}
			}
			assert.Contains(t, out.String(), "mmcblk0")
		}
		require.NotEmpty(t, Facts(doc))
		for _, f := range Facts(doc) {
			assert.NotContains(t, f.Text, "│", "pages draw the ruler themselves")
		}
	}
	assert.Equal(t, IsBad, MoodOf(receipt.Document{Verdict: "faulty"}))
	assert.Equal(t, Caution, MoodOf(receipt.Document{Verdict: "unsteady"}))
	assert.Equal(t, IsGood, MoodOf(receipt.Document{Verdict: "holds what it claims"}))
	assert.Equal(t,
		"At 20.0 MB/s, writing will take 1 h 0 min more, and reading everything back about 1 h 10 min. If the card "+
			"holds less than it claims, that shows soon after its real size.",
		Expectation(whole.Expectation{Rate: 20e6, Write: time.Hour, Read: 70 * time.Minute}))
}

func slicesOf[T any](one T, n int) (all []T) {
	for range n {
		all = append(all, one)
	}
	return all
}
