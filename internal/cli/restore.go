package cli

import (
	"context"
	"errors"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/document"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/job"
	"zipstamp/internal/meter"
	"zipstamp/internal/view"
)

func (a *app) gaugeRestore() *cobra.Command {
	var h handling
	var list, forget bool
	cmd := a.command("gauge restore", 0, 1, func(cmd *cobra.Command, args []string) error {
		r := &restoring{app: a, h: h}
		return r.run(cmd.Context(), args, list, forget)
	})
	h.flags(cmd.Flags(), a.streams.Here)
	cmd.Flags().BoolVar(&list, "list", false, "")
	cmd.Flags().BoolVar(&forget, "forget", false, "")
	return cmd
}

// restoring is a run of gauge restore.
type restoring struct {
	*app
	h   handling
	who person
}

func (r *restoring) run(ctx context.Context, args []string, list, forget bool) (err error) {
	if r.who, err = whoRuns(); err != nil {
		return err
	}
	all, err := allJournals(r.who)
	if err != nil {
		return err
	}
	var only *card.Card
	if len(args) > 0 {
		if only, err = r.pick(ctx, args[0]); err != nil {
			return err
		}
	}
	var kept []view.Kept
	for _, p := range all {
		if only != nil && (p.Err != nil || p.Card.Like(only.Record()) == card.Different) {
			continue
		}
		k := view.Kept{Pending: p, Path: r.who.short(p.Path)}
		if !list {
			k.Fate, k.Err = r.settle(ctx, p, only, forget)
			err = worse(err, k.Err)
		}
		kept = append(kept, k)
	}
	list = list || r.h.dryRun
	if r.json {
		r.printJSON(keptDocument(kept, statusOf(err), list))
	} else {
		r.screen.Kept(kept, list, r.words)
	}
	if r.h.dryRun {
		r.screen.Say(view.RestoreDry)
	}
	if err != nil {
		return shown{err}
	}
	return nil
}

// settle puts back what a journal has, or gives it up.
func (r *restoring) settle(
	ctx context.Context, p journal.Pending, only *card.Card, forget bool,
) (fate journal.Fate, err error) {
	switch {
	case forget && r.h.dryRun && (only != nil || p.Err != nil):
		return journal.Fate{What: journal.WouldDelete}, nil
	case forget && (only != nil || p.Err != nil):
		if err := r.who.as(p.Remove); err != nil {
			return journal.Fate{}, stillRuns(err)
		}
		return journal.Fate{What: journal.Deleted}, nil
	case forget:
		return journal.Fate{What: journal.StillValid}, nil
	case p.Err != nil:
		return journal.Fate{}, p.Err
	}
	c := only
	if c == nil {
		if c, err = r.findCard(p); err != nil {
			return journal.Fate{}, err
		}
	}
	if r.h.dryRun {
		if _, err = r.admit(c, r.h); err == nil {
			err = unlike(look(c, p), c)
		}
		if err == nil {
			fate.What = journal.WouldPutBack
		}
		return fate, err
	}
	o := r.onCard()
	o.who, o.handling, o.found = r.who, r.h, c
	err = o.do(ctx, nil, job.One{
		Kind: job.Restore,
		Fits: func(*card.Card) (string, error) { return view.ThenRestore, nil },
		Run: func(_ context.Context, t *job.Target) (_ job.Ended, err error) {
			fate, err = r.putBack(r.who, t.Hold, p)
			return job.Ended{}, err
		},
	})
	return fate, err
}

// stillRuns is the error of a journal whose test still runs.
func stillRuns(err error) error {
	if !errors.Is(err, journal.ErrRunning) {
		return err
	}
	return view.StillTested(err)
}

// putBack puts back what a journal has onto a card that may be its. The journal is deleted once all reads as
// it was.
func (a *app) putBack(who person, hold *card.Hold, p journal.Pending) (fate journal.Fate, err error) {
	found, err := p.Look(hold, hold.SectorSize())
	done := found.Done()
	if err == nil && done && p.Card.Like(hold.Card().Record()) == card.Same {
		// Whoever put it back may not have come so far.
		if err = a.showPuttingBack(func(m *meter.Meter) error { return displace(who, hold, m, p) }); err == nil {
			found, err = p.Look(hold, hold.SectorSize())
		}
		if err == nil && found.Done() {
			return journal.Fate{What: journal.WasBack}, who.as(p.Remove)
		}
	}
	switch {
	case err != nil:
		return journal.Fate{}, err
	case done && found.Done(): // as a copy of the card that was tested would be
		return journal.Fate{What: journal.LooksBack}, nil
	}
	if err := unlike(found, hold.Card()); err != nil {
		return journal.Fate{}, err
	}
	var restored, wrong int
	err = a.showPuttingBack(func(m *meter.Meter) (err error) {
		restored, wrong, err = p.Restore(hold, found, func() error { return displace(who, hold, m, p) })
		return err
	})
	if err != nil {
		return journal.Fate{}, err
	}
	if wrong > 0 || found.Torn > 0 {
		return journal.Fate{}, view.NotBack(&journal.NotBackError{Restored: restored, Wrong: wrong, Torn: found.Torn})
	}
	return journal.Fate{What: journal.PutBack, Sectors: restored}, who.as(p.Remove)
}

// unlike is why nothing is put back onto a card, by what it has of what was saved; nil: it can be.
func unlike(found journal.Found, c *card.Card) error {
	switch {
	case found.Nearly():
		return view.NotBack(&journal.NotBackError{Other: found.Other})
	case found.Is(), found.Done():
		return nil
	case found.Unread > 0:
		return view.NotBack(&journal.NotBackError{Unread: found.Unread})
	}
	return view.OtherCard(c.Given)
}

// showPuttingBack shows how far it has come.
func (a *app) showPuttingBack(do func(*meter.Meter) error) error {
	var m meter.Meter
	m.Begin(meter.PutBack, gauge.Displaced) // nearly all of the time
	shown := a.screen.Follow(view.Followed{Meter: &m})
	defer shown.Stop()
	defer m.End()
	return do(&m)
}

// displace makes the card's own memory forget what stood there before something was put back.
func displace(who person, hold *card.Hold, m *meter.Meter, p journal.Pending) error {
	j, err := createJournal(who, journal.Head{Job: p.Job, Card: p.Card, Nonce: p.Nonce, Started: time.Now()})
	if err != nil {
		return view.CantSave(who.journals().Path(), true, err)
	}
	all, err := spots.Displace(hold, m, p, j)
	if all {
		return errors.Join(err, who.as(j.Remove))
	}
	return errors.Join(err, j.Close())
}

// findCard finds the card of a journal among those that are here: the one file that it names, or the one card that says
// the same of itself and has what the test wrote.
func (r *restoring) findCard(p journal.Pending) (*card.Card, error) {
	if !p.Card.IsDisk() {
		return r.finder.Find(p.Card.Path)
	}
	all, err := r.finder.All()
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		if p.Card.Like(c.Record()) != card.Different && len(c.Reasons(card.Consent{Asked: true})) == 0 &&
			belongs(c, p) {
			return c, nil
		}
	}
	// A loop device is never chosen by itself.
	if c, err := r.finder.Find(p.Card.Path); err == nil && p.Card.Like(c.Record()) != card.Different && belongs(c, p) {
		return c, nil
	}
	return nil, view.TestedNotHere(p.Card.Name)
}

// look tells what a card has of what a test saved of it; nothing if it can't be read.
func look(c *card.Card, p journal.Pending) journal.Found {
	rd, err := c.OpenToRead()
	if err != nil {
		return journal.Found{}
	}
	defer rd.Close()
	found, err := p.Look(rd, c.SectorSize)
	if err != nil {
		return journal.Found{}
	}
	return found
}

// belongs tells whether a card may be the one that was tested, by what is on it.
func belongs(c *card.Card, p journal.Pending) bool {
	f := look(c, p)
	return f.Is() || f.Done() || f.Nearly()
}

// pendingOf are the journals of a card that is here. One whose stamps are not on the card may be of another card with
// the same contents, unless both say that they are one.
func (a *app) pendingOf(who person, c *card.Card) (all []journal.Pending) {
	kept, err := allJournals(who)
	if err != nil {
		return nil
	}
	now := c.Record()
	for _, p := range kept {
		if p.Err != nil || p.Card.Like(now) == card.Different {
			continue
		}
		if f := look(c, p); f.Is() || p.Card.Like(now) == card.Same && (f.Done() || f.Nearly()) {
			all = append(all, p)
		}
	}
	return all
}

// offerPending offers to put back what an earlier test of the card had saved, before the card is overwritten. What is
// not put back is deleted by the function that is returned, which is called once the card is being overwritten.
func (a *app) offerPending(ctx context.Context, who person, c *card.Card, h handling) (deleteSaved func(), err error) {
	pending := a.pendingOf(who, c)
	deleteSaved = func() {
		for _, p := range pending {
			if err := who.as(p.Remove); err != nil {
				a.screen.Problem(err, a.words)
			}
		}
	}
	if len(pending) == 0 {
		return deleteSaved, nil
	}
	a.screen.Say(view.NotYetBack(c.Name, pending[0].Started))
	if h.yes || !a.screen.Asks() {
		a.screen.Say(view.DeletedWhenOverwritten)
		return deleteSaved, nil
	}
	yes, err := a.screen.Agrees(ctx, view.PutBackFirst)
	if err != nil || !yes {
		return deleteSaved, err
	}
	r := &restoring{app: a, h: h, who: who}
	for _, p := range pending {
		fate, err := r.settle(ctx, p, c, false)
		if err != nil {
			return deleteSaved, err
		}
		a.screen.Say(view.CardFate(c.Name, view.FateText(fate)))
	}
	pending = nil
	return deleteSaved, nil
}

// The JSON document of gauge restore.
type keptJournal struct {
	Path    string      `json:"path"`
	Card    card.Record `json:"card"`
	Started string      `json:"started,omitempty"`
	Bytes   int64       `json:"bytes"`
	Fate    string      `json:"fate,omitempty"`
	Error   string      `json:"error,omitempty"`
}

func keptDocument(kept []view.Kept, exit int, list bool) any {
	doc := struct {
		document.Head
		Kept []keptJournal `json:"kept"`
	}{document.New(document.Restore, exit, view.KeptSentence(kept, list)), []keptJournal{}}
	for _, k := range kept {
		one := keptJournal{Path: k.Path, Card: k.Card, Bytes: k.Bytes(), Fate: view.FateText(k.Fate)}
		if !k.Started.IsZero() {
			one.Started = k.Started.UTC().Format("2006-01-02T15:04:05Z")
		}
		if k.Err != nil {
			one.Error = view.ErrorText(k.Err)
		}
		doc.Kept = append(doc.Kept, one)
	}
	return doc
}
