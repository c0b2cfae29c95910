package view

import (
	"fmt"

	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
)

// worthATime is how long a job must take for it to be worth a word what took it, seconds.
const worthATime = 2

// tookFact says what took most of the time of a job.
func tookFact(doc receipt.Document) string {
	total, longest := 0.0, receipt.Phase{}
	for _, p := range doc.Phases {
		total += p.Seconds
		if p.Seconds > longest.Seconds {
			longest = p
		}
	}
	if total < worthATime {
		return ""
	}
	return fmt.Sprintf("%s: %.0f %%", tookBy(longest), 100*longest.Seconds/total)
}

// mostly is the part of a phase in which the card was at work, from which on the phase was waiting for it.
const mostly = 0.7

// tookBy is what a phase is limited by.
func tookBy(p receipt.Phase) string {
	switch meter.Phase(p.Phase) {
	case meter.Write:
		if p.Card > 0 && p.Card < mostly*p.Seconds {
			return "unpacking, while the card waited"
		}
		return "the card's writing, " + rateText(p.Rate)
	case meter.ReadBack, meter.Compare, meter.Files:
		return "the card's reading, " + rateText(p.Rate)
	case meter.Rewrite:
		return "writing once more, " + rateText(p.Rate)
	case meter.Check, meter.Unpack:
		return "the check of the download, " + rateText(p.Rate)
	case meter.Discard:
		return "the card's discarding, " + rateText(p.Rate)
	case meter.Flush:
		return "waiting until the card had kept everything"
	case meter.Repair:
		return "the repair of blocks"
	}
	return p.Phase
}
