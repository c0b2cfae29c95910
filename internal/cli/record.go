package cli

import (
	"fmt"
	"strings"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

// record is what is kept of a job: for whom it is done, since when, and its receipt.
type record struct {
	*app
	who     person
	set     settings
	started time.Time
	draft   *receipt.Draft // nil before there is room for it, and when it has been kept
}

// begin is the start of the job.
func (r *record) begin() (err error) {
	r.started = time.Now()
	if r.who, err = whoRuns(); err == nil {
		r.set, err = loadSettings(r.who, nil)
	}
	return err
}

// reserve makes room for the receipt.
func (r *record) reserve(named, job string, c *card.Card) (err error) {
	r.draft, err = r.reserveFor(r.who, r.set, named, job, c)
	return err
}

// discard gives the room up, if the receipt was not kept.
func (r *record) discard() {
	if r.draft != nil {
		_ = r.who.as(func() error { r.draft.Discard(); return nil })
	}
}

// conclude completes the receipt, keeps it and shows it. failed is why the job did not come to its end, and result the error that its result stands for, by which the
// program ends.
func (r *record) conclude(doc receipt.Document, sentence string, failed, result error) error {
	doc.End(r.tool(), r.started, time.Now(), sentence, statusOf(result), failed)
	path := r.who.short(r.draft.Path())
	unkept := r.who.as(func() error { return r.draft.Keep(doc) })
	r.draft = nil
	if unkept != nil {
		path = ""
		if result == nil {
			result = unkept
		}
	}
	if r.json {
		r.printJSON(doc)
	} else {
		r.screen.Document(doc, path)
	}
	if unkept != nil {
		r.screen.Problem(unkept, r.words)
	}
	if result != nil {
		return shown{result}
	}
	return nil
}

// tool is what made a receipt.
func (a *app) tool() receipt.Tool { return receipt.Tool{Name: "zipstamp", Version: a.version} }

// noteLeft notes in a receipt how the card was let go.
func noteLeft(doc *receipt.Document, left card.Left) {
	switch {
	case left.PoweredOff:
		doc.Card.Left = "powered off"
	case left.Ejected:
		doc.Card.Left = "ejected"
	}
	if left.Problem != nil {
		doc.Card.Why = left.Problem.Error()
	}
}

// reserveFor makes room for the receipt of a job.
func (a *app) reserveFor(who person, set settings, named, job string, c *card.Card) (d *receipt.Draft, err error) {
	slug := strings.ReplaceAll(job, " ", "-")
	if named != "" {
		if err := c.Apart("the place for the receipt", named); err != nil {
			return nil, err
		}
	}
	err = who.as(func() (err error) {
		switch {
		case named == "":
			d, err = receipt.InFolder(who.receiptsFolder(set), slug, c.Name, time.Now())
		case isFolder(named):
			d, err = receipt.InFolder(who.folder(named), slug, c.Name, time.Now())
		default:
			d, err = receipt.AtFile(named, who.owner)
		}
		return err
	})
	if err != nil {
		return nil, noReceipt(err)
	}
	return d, nil
}

// noReceipt is the error of a job that was not started since its receipt could not be kept.
func noReceipt(err error) error {
	return &view.Hint{
		Err:  fmt.Errorf("the receipt can't be written, so nothing was started: %w", err),
		Next: "name a place where there is room and that may be written: --receipt FILE",
	}
}
