package cli

import (
	"context"
	"errors"
	"sync"
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

// preflight tries a few places of every card, where the image will be and at the card's end, and puts back what was
// there: so a card that holds too little is found before an hour of writing, and not after. A card that is counterfeit
// but large enough is stamped, and that is said. It fills in the outcome of those that are not to be stamped.
func (s *stamping) preflight(ctx context.Context, progress *view.Progress) {
	if !s.o.noSpots {
		s.app.left.is(view.TryLeft(s.names()))
	}
	var all sync.WaitGroup
	for _, t := range s.left() {
		if s.o.noSpots {
			t.spots = &receipt.Spots{Why: "turned off"}
			continue
		}
		all.Go(func() { t.preflight(ctx, s, s.load.need(t)) })
	}
	all.Wait()
	for _, t := range s.targets {
		if t.outcome != nil {
			t.meter.End()
		}
		if t.warning != "" {
			progress.Say(t.warning)
		}
	}
}

func (t *target) preflight(ctx context.Context, s *stamping, need int64) {
	start := time.Now()
	nonce := randomNonce()
	j, err := createJournal(s.who, journal.Head{
		Job: s.load.job(), Card: t.card.Record(), Nonce: nonce, Started: start,
	})
	if err != nil {
		j = nil // it is to be overwritten anyway
	}
	rep, restored, err := spots.Test{
		Device: t.hold, Meter: &t.meter, Nonce: nonce, Seed: randomSeed(), Places: preflightPlaces,
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
		t.outcome = &stamp.Outcome{Result: stamp.Result{State: state}, Err: err}
	case err != nil:
		t.spots.Why = err.Error() // the stamp will find out whether that matters
	case l != nil && !l.Anywhere && l.Real >= need:
		t.spots.Real = l.Real
		if s.load.knownFake(t) {
			break
		}
		t.warning = view.CounterfeitButLarge(t.card.Name, l.Real, rep.Claimed)
	case l != nil:
		t.spots.Real = l.Real
		t.outcome = &stamp.Outcome{
			Result: stamp.Result{State: state}, Err: &gauge.TooSmallError{Loss: *l, Claimed: rep.Claimed, Need: need},
		}
	}
	switch {
	case j == nil:
	case restored, err == nil && t.outcome == nil:
		_ = s.who.as(j.Remove) // what it has is there, or is to be overwritten
	default:
		_ = j.Close() // for gauge restore
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
