package cli

import (
	"context"
	"errors"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// preflightPlaces is how many places are chosen by chance where the image will be.
const preflightPlaces = 24

// beforeWriting is called before the first write to a card. Its error keeps the card from being stamped; the outcome is
// in refused then.
func (t *target) beforeWriting(ctx context.Context, s *stamping, progress *view.Progress) error {
	defer s.isNow(t, view.BeingStamped)
	if s.o.noSpots {
		t.spots = &receipt.Spots{Why: "turned off"}
		return nil
	}
	s.isNow(t, view.BeingTried)
	t.tryPlaces(ctx, s, progress)
	if t.refused != nil {
		return t.refused.Err
	}
	return nil
}

// tryPlaces tries a few places of a card, where the image will be and at the card's end, and puts back what was there:
// so a card that holds too little is found before an hour of writing, and not after. A card that is counterfeit but
// large enough is stamped, and that is said.
func (t *target) tryPlaces(ctx context.Context, s *stamping, progress *view.Progress) {
	start, need := time.Now(), s.load.need(t)
	nonce := randomNonce()
	j, err := createJournal(s.who, journal.Head{
		Job: s.load.kind().Name, Card: t.Card.Record(), Nonce: nonce, Started: start,
	})
	if err != nil {
		j = nil // it is to be overwritten anyway
	}
	rep, restored, err := spots.Test{
		Device: t.Hold, Meter: &t.meter, Nonce: nonce, Seed: randomSeed(), Places: preflightPlaces,
		Quick: max(need, stamp.BlockSize), Journal: j,
	}.Run(ctx)
	state := stamp.Untouched
	if !restored {
		state = stamp.Uncertain
	}
	t.spots = &receipt.Spots{
		Done: err == nil, Verdict: string(rep.Verdict), Written: rep.Written, Seconds: time.Since(start).Seconds(),
	}
	switch l := rep.Loss; {
	case errors.As(err, new(*card.GoneError)), ctx.Err() != nil:
		t.refused = &stamp.Outcome{Result: stamp.Result{State: state}, Err: err}
	case err != nil:
		t.spots.Why = err.Error() // the stamp will find out whether that matters
	case l != nil && !l.Anywhere && l.Real >= need:
		t.spots.Real = l.Real
		if s.load.knownFake(t) {
			break
		}
		progress.Say(view.CounterfeitButLarge(t.Card.Name, l.Real, rep.Claimed))
	case l != nil:
		t.spots.Real = l.Real
		t.refused = &stamp.Outcome{
			Result: stamp.Result{State: state}, Err: &gauge.TooSmallError{Loss: *l, Claimed: rep.Claimed, Need: need},
		}
	}
	switch {
	case j == nil:
	case restored, err == nil && t.refused == nil:
		_ = s.who.as(j.Remove) // what it has is there, or is to be overwritten
	case t.refused == nil:
		t.stale = j // it is of no use any more when the card is overwritten
	default:
		_ = j.Close() // for gauge restore
	}
}

// isNow notes what is being done with a card, for who ends the program at once.
func (s *stamping) isNow(t *target, state view.CardState) {
	s.statesMu.Lock()
	defer s.statesMu.Unlock()
	if s.states == nil {
		s.states = map[*target]view.CardState{}
	}
	s.states[t] = state
	names := map[view.CardState][]string{}
	for _, one := range s.left() {
		names[s.states[one]] = append(names[s.states[one]], one.Card.Name)
	}
	s.app.left.is(view.StampsLeft(names))
}

// overwritten deletes what was saved of the card, when it is overwritten.
func (t *target) overwritten() {
	t.DeleteSaved()
	if t.stale != nil {
		_ = t.who.as(t.stale.Remove)
		t.stale = nil
	}
}

// left are the cards that are to be stamped.
func (s *stamping) left() (targets []*target) {
	for _, t := range s.targets {
		if t.outcome == nil {
			targets = append(targets, t)
		}
	}
	return targets
}
