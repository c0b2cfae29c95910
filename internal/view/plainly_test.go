package view

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"

	"zipstamp/internal/document"
	"zipstamp/internal/gauge"
	"zipstamp/internal/receipt"
)

// TestSizesAsCardsAreSold names cards by what is printed on them.
func TestSizesAsCardsAreSold(t *testing.T) {
	for n, sold := range map[int64]string{
		63_864_569_856: "64 GB", 31_914_983_424: "32 GB", 1_000_000_000_000: "1 TB", 2_000_000_000_000: "2 TB",
		1_024_209_543_168: "1 TB", 127_865_454_592: "128 GB", 64_000_000: "64 MB", 3_900_000_000: "4 GB",
		15_931_539_456: "16 GB", 512_110_190_592: "512 GB",
	} {
		assert.Equal(t, sold, Nominal(n), n)
	}
	assert.Equal(t, "20.0 GB", Nominal(20e9))
	assert.Equal(t, []string{"64 GB", "", ""}, []string{SoldAs(63_864_569_856), SoldAs(20e9), SoldAs(512_110_190_592)})
}

// TestPlainWordsForTheSeller has a paragraph for every bad result, and none for others.
func TestPlainWordsForTheSeller(t *testing.T) {
	doc := func(verdict gauge.Verdict, holds int64, loss *receipt.CardLoss) receipt.Document {
		return receipt.Document{
			Head: document.Head{Sentence: "sdb."}, Job: receipt.JobWhole, Verdict: receipt.Verdict(verdict),
			Gauge: &receipt.Gauge{
				Method: string(gauge.ByWhole), Verdict: string(verdict), Claimed: 1e12, Tested: 1e12, Holds: holds,
				Loss:    loss,
				Slowest: &receipt.Slow{Rate: 30e6},
				Meets:   []string{"Class 10"},
			},
		}
	}
	for says, d := range map[string]receipt.Document{
		"The card says that it has 1 TB. It can keep 3.90 GB, which is 0.4 % of that. What is saved beyond that " +
			"destroys " +
			"what was saved before.": doc(gauge.Counterfeit, 3.9e9, &receipt.CardLoss{
			Real: 3.9e9, Exact: true, Repeats: true,
		}),
		"which is 50 % of that. What is saved beyond that is lost.": doc(gauge.Counterfeit, 5e11,
			&receipt.CardLoss{Real: 5e11, Exact: true}),
		"loses the rest":               doc(gauge.Counterfeit, 0, &receipt.CardLoss{Anywhere: true}),
		"less than 0.1 %":              doc(gauge.Counterfeit, 1e6, &receipt.CardLoss{Real: 1e6, Exact: true}),
		"Parts of it don't keep":       doc(gauge.Faulty, 1e12, nil),
		"beyond its real size is lost": doc(gauge.Counterfeit, 5e11, &receipt.CardLoss{Most: 5e11}),
	} {
		assert.Contains(t, Plainly(d), says)
		var out bytes.Buffer
		Text(&out, d)
		assert.Contains(t, out.String(), "order number")
		assert.Contains(t, out.String(), "identifies itself")
		assert.NotContains(t, out.String(), "receipts export")
		if d.Gauge.Loss != nil {
			assert.NotContains(t, out.String(), "Class 10", "a counterfeit has no marks")
		}
	}
	good := doc(gauge.Holds, 1e12, nil)
	assert.Empty(t, Plainly(good))
	assert.Empty(t, ForTheShop(good))
}
