package view

import (
	"fmt"
	"math"
	"strings"

	"zipstamp/internal/gauge"
	"zipstamp/internal/receipt"
)

// Plainly says in one paragraph, for somebody who knows nothing of the matter, what a bad result means; empty where
// there is nothing to explain.
func Plainly(doc receipt.Document) string {
	g := doc.Gauge
	if g == nil || MoodOf(doc) != IsBad {
		return ""
	}
	claims := Nominal(g.Claimed)
	switch l := g.Loss; {
	case l != nil && l.Anywhere:
		return fmt.Sprintf("The card says that it has %s, and has less. It keeps some of what is saved on it, and "+
			"loses the "+
			"rest, without a word of it.", claims)
	case l != nil && l.Exact:
		text := fmt.Sprintf("The card says that it has %s. It can keep %s, which is %s of that.", claims,
			Bytes(g.Holds),
			percent(g.Holds, g.Claimed))
		if l.Repeats {
			return text + " What is saved beyond that destroys what was saved before."
		}
		return text + " What is saved beyond that is lost."
	case l != nil:
		return fmt.Sprintf("The card says that it has %s, and has less. What is saved beyond its real size is lost.",
			claims)
	case gauge.Verdict(g.Verdict) == gauge.Faulty:
		return fmt.Sprintf("The card says that it has %s. Parts of it don't keep what is saved there: files on them "+
			"are "+
			"damaged or can't be read.", claims)
	case gauge.Verdict(g.Verdict) == gauge.Unsteady:
		return "The card, or its reader, does not always give back what was saved on it: what goes well once may " +
			"fail the " +
			"next time."
	}
	return ""
}

// percent is a share in words, with as many digits as tell it from nothing and from all.
func percent(part, whole int64) string {
	p := 100 * float64(part) / float64(max(whole, 1))
	switch {
	case p < 0.1:
		return "less than 0.1 %"
	case p < 10:
		return fmt.Sprintf("%.1f %%", p)
	}
	return fmt.Sprintf("%.0f %%", math.Floor(p))
}

// Nominal is the size by which a card is sold, 64 GB, where one is near, and otherwise its size in round numbers.
func Nominal(n int64) string {
	for unit := int64(1e6); unit <= 1e15; unit *= 1000 {
		for size := unit; size < 1000*unit; size *= 2 {
			if share := float64(n) / float64(size); share > 0.9 && share < 1.075 {
				return strings.Replace(strings.Replace(Bytes(size), ".00 ", " ", 1), ".0 ", " ", 1)
			}
		}
	}
	return Bytes(n)
}

// SoldAs is the size by which a card is sold; empty where none is near.
func SoldAs(n int64) string {
	if sold := Nominal(n); sold != Bytes(n) {
		return sold
	}
	return ""
}

// ForTheShop are what a buyer fills in on a page for the seller.
func ForTheShop(doc receipt.Document) []string {
	if Plainly(doc) == "" {
		return nil
	}
	return []string{"shop", "order number", "bought on"}
}
