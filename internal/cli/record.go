package cli

import (
	"strings"
	"time"

	"github.com/spf13/pflag"

	"zipstamp/internal/card"
	"zipstamp/internal/document"
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

// begin is the start of the job. flags may override settings; they may be nil.
func (r *record) begin(flags *pflag.FlagSet) (err error) {
	r.started = time.Now()
	if r.who, err = whoRuns(); err == nil {
		r.set, err = loadSettings(r.who, flags)
	}
	return err
}

// discard gives the room up, if the receipt was not kept.
func (r *record) discard() {
	if r.draft != nil {
		_ = r.who.as(func() error { r.draft.Discard(); return nil })
	}
}

// concluded is a job that has ended.
type concluded struct {
	doc    receipt.Document
	path   string // where the receipt is kept; empty if it could not be
	unkept error  // why it could not be kept
	result error  // that the result stands for, by which the program ends; nil: it is good
}

// keep completes the receipt and keeps it. failed is why the job did not come to its end, and result the error that its
// result stands for.
func (r *record) keep(doc receipt.Document, sentence string, failed, result error) concluded {
	words := ""
	if failed != nil {
		words = view.ErrorText(failed)
	}
	doc.Card.OwnName = r.ownName(doc.Card.Record)
	doc.End(r.tool(), r.started, time.Now(), sentence, statusOf(result), failed, words)
	c := concluded{doc: doc, path: r.who.short(r.draft.Path()), result: result}
	c.unkept = r.who.as(func() error { return r.draft.Keep(doc) })
	r.draft = nil
	if c.unkept != nil {
		c.path, c.result = "", worse(c.result, c.unkept)
	}
	return c
}

// conclude keeps the receipt and shows the result.
func (r *record) conclude(doc receipt.Document, sentence string, failed, result error) error {
	return r.show(r.keep(doc, sentence, failed, result))
}

// show shows the results of jobs, and gives the error by which the program ends.
func (a *app) show(all ...concluded) error {
	var docs []receipt.Document
	var paths []string
	var worst, unkept error
	for _, c := range all {
		docs, paths = append(docs, c.doc), append(paths, c.path)
		worst = worse(worst, c.result)
		if c.unkept != nil {
			unkept = c.unkept
		}
	}
	switch {
	case !a.json && len(all) == 1:
		a.screen.Document(docs[0], paths[0])
	case !a.json:
		a.screen.Documents(docs, paths)
	case len(all) == 1:
		a.printJSON(docs[0])
	default:
		a.printJSON(struct {
			document.Head
			Cards []receipt.Document `json:"cards"`
		}{document.New(document.Jobs, statusOf(worst), view.StampsSentence(docs)), docs})
	}
	if unkept != nil {
		a.screen.Problem(unkept, a.words)
	}
	if worst != nil {
		return shown{worst}
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
		doc.Card.Why = view.ErrorText(left.Problem)
	}
}

// reserve makes room for the receipt.
func (r *record) reserve(named, job string, c *card.Card) (err error) {
	slug := strings.ReplaceAll(job, " ", "-")
	if named != "" {
		if err := c.Apart(view.TheReceipt, named); err != nil {
			return err
		}
	}
	err = r.who.as(func() (err error) {
		switch {
		case named == "":
			r.draft, err = receipt.InFolder(r.who.receiptsFolder(r.set), slug, c.Name, time.Now())
		case isFolder(named):
			r.draft, err = receipt.InFolder(r.who.folder(named), slug, c.Name, time.Now())
		default:
			r.draft, err = receipt.AtFile(named, r.who.owner)
		}
		return err
	})
	if err != nil {
		return view.NoRoomForReceipt(err)
	}
	return nil
}
