package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/pflag"

	"zipstamp/internal/card"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/document"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// handling are the flags that all commands which write a card share.
type handling struct{ yes, fixedDisk, wait, dryRun bool }

func (h *handling) flags(f *pflag.FlagSet, here card.Local) {
	f.BoolVar(&h.yes, "yes", false, "")
	if !here.OnlyCards {
		f.BoolVar(&h.fixedDisk, "fixed-disk", false, "")
	}
	f.BoolVar(&h.wait, "wait", false, "")
	f.BoolVar(&h.dryRun, "dry-run", false, "")
}

// admit refuses a card that may not be written. typed says that its name must be typed, whatever else was said.
func (a *app) admit(c *card.Card, h handling) (typed bool, err error) {
	if err := a.refuseOtherFile(c); err != nil {
		return false, err
	}
	asked := card.Consent{FixedDisk: h.fixedDisk, Asked: a.screen.Asks()}
	refusal := c.Refusal(asked)
	var refused *card.RefusedError
	if errors.As(refusal, &refused) && refused.Why[0].Cause == guard.System { // it says more than what else is on it
		return false, refusal
	}
	if err := keepsNothingOn(c); err != nil {
		return false, err
	}
	if refusal != nil {
		return false, refusal
	}
	if c.Disk != nil && a.streams.Here.Untried && h.yes {
		if err := trusts(c, a.streams.Here); err != nil {
			return false, err
		}
	}
	// What a person has to agree to, --yes can't.
	typed = len(c.Reasons(card.Consent{Asked: true})) > 0
	if h.yes && !typed {
		if err := c.Refusal(card.Consent{FixedDisk: h.fixedDisk}); err != nil {
			return false, err
		}
	}
	return typed, c.MayWrite()
}

// trusts refuses a real card that nobody is asked about, on a system on which writing those has not been tried enough,
// unless the user has said that it is trusted.
func trusts(c *card.Card, here card.Local) error {
	who, err := whoRuns()
	if err != nil {
		return err
	}
	set, err := loadSettings(who, nil)
	if err == nil && !set.trustSystem {
		err = view.NotTrusted(c.Given, here.System)
	}
	return err
}

// mayAsk refuses a card for which a person has to be asked where there is none, and no flag in place of it.
func (a *app) mayAsk(c *card.Card, h handling, typed bool) error {
	switch {
	case h.dryRun:
		return nil
	case typed && !a.screen.Asks():
		return view.NeedsPerson(c.Given)
	case !h.yes && !a.screen.Asks():
		return view.NeedsYes(c.Given)
	}
	return nil
}

// planned shows what would be done without --dry-run.
func (a *app) planned(job string, p view.Plan, report *check.Report) error {
	for _, l := range p.Cards {
		if err := l.Card.MayFree(); err != nil {
			return err
		}
	}
	sentence := view.DrySentence(job, p)
	if !a.json {
		a.screen.DryRun(sentence, p)
		return nil
	}
	doc := planDocument{Head: document.New(document.Plan, statusGood, sentence), Job: job, Cards: []card.Record{}}
	for _, l := range p.Cards {
		doc.Cards = append(doc.Cards, l.Card.Record())
	}
	if report != nil {
		checked := checkedAs(*report)
		doc.Image = &checked
	}
	a.printJSON(doc)
	return nil
}

// planDocument is the JSON document of a dry run.
type planDocument struct {
	document.Head
	Job   string        `json:"job"`
	Cards []card.Record `json:"cards"`
	Image *checkedImage `json:"image,omitempty"` // that would be stamped
}

// take frees the card and takes it.
func (a *app) take(ctx context.Context, c *card.Card, h handling, typed bool) (*card.Hold, error) {
	return c.Claim(ctx, card.Freeing{
		Consent: card.Consent{FixedDisk: h.fixedDisk, Asked: !h.yes || typed}, Wait: h.wait,
		Waiting: func(e *card.RefusedError) { a.screen.Say(view.AskedToWait(e)) },
	})
}

// keepsNothingOn refuses a card on which the program itself keeps what it has to remember.
func keepsNothingOn(c *card.Card) error {
	who, err := whoRuns()
	if err != nil {
		return err
	}
	set, err := loadSettings(who, nil)
	if err != nil {
		return err
	}
	if err := c.Apart(view.TheReceipts, who.receiptsFolder(set).Path()); err != nil {
		return err
	}
	return c.Apart(view.TheSaved, who.journals().Path())
}

// refuseOtherFile refuses a plain file that isn't known to stand for a card: a slip of the keyboard must not overwrite
// a download or a document. It may be zeros, or begin as a disk does and not be a download, or have been used as a card
// before.
func (a *app) refuseOtherFile(c *card.Card) error {
	if info, err := os.Stat(c.Path); !c.IsUncertain() || err == nil && info.Size() == 0 {
		return nil
	}
	refuse := func(why string, err error) error { return view.NotACard(c.Given, why, err) }
	now := c.Record()
	if past, like := receipt.Latest(a.history(), now, func(receipt.Document) bool { return true }); past != nil &&
		like == card.Same {
		return nil
	}
	f, err := image.Open(c.Path)
	if err != nil {
		return refuse(view.Unreadable, err)
	}
	defer f.Close()
	switch other, packing := f.Other(), f.Packing(); {
	case packing != image.RawPacking:
		return refuse(view.PackedAs(packing), nil)
	case other.Kind != "":
		return refuse(view.IsA(view.Stranger(other)), nil)
	}
	d, err := c.Contents()
	switch {
	case err != nil:
		return refuse(view.Unreadable, err)
	case d.Kind == layout.KindDisk, d.Kind == layout.KindFileSystem:
		beside, err := digest.LookBeside(c.Path, filepath.Base(c.Path))
		if err == nil && len(beside.Published) > 0 {
			return refuse(view.IsDownload(beside.Published[0].From), nil)
		}
		return nil
	case d.Kind == layout.KindDisc, d.Kind == layout.KindPlainDisc:
		return refuse(view.PlainDisc, nil)
	}
	if stamp.IsMarked(f.Start()) { // a stamp of it was interrupted
		return nil
	}
	zeros, err := allZeros(c.Path)
	switch {
	case err != nil:
		return refuse(view.Unreadable, err)
	case !zeros:
		return refuse(view.HoldsUnknown, nil)
	}
	return nil
}

// allZeros tells whether a file has nothing but zeros.
func allZeros(path string) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	buf := make([]byte, 1<<20)
	for {
		n, err := f.Read(buf)
		if len(bytes.Trim(buf[:n], "\x00")) > 0 {
			return false, nil
		}
		if err == io.EOF {
			return true, nil
		}
		if err != nil {
			return false, err
		}
	}
}
