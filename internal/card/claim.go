package card

import (
	"context"
	"errors"
	"time"

	"zipstamp/internal/card/guard"
)

// Freeing is how a card is freed that is in use.
type Freeing struct {
	Consent
	Wait    bool                // for programs that use what is on it to end
	Waiting func(*RefusedError) // told what is waited for, when that changes; may be nil
}

// How often, and how long apart, a card is tried to be claimed that something else takes in between, such as a desktop
// that mounts it again.
const (
	claimTries = 25
	claimPause = 200 * time.Millisecond
	busyPause  = time.Second
)

// Claim frees the card (swap is turned off, file systems are unmounted), opens it for exclusive use, and sees to it
// that it is still the card that was found. From then on nothing else can mount or write it. The error is a
// *RefusedError.
func (c *Card) Claim(ctx context.Context, f Freeing) (*Hold, error) {
	claim := func(ctx context.Context, c *Card) (Device, error) { return c.claim(ctx, f) }
	dev, err := claim(ctx, c)
	if err != nil {
		return nil, err
	}
	return &Hold{card: c, dev: dev, claim: claim}, nil
}

func (c *Card) claim(ctx context.Context, f Freeing) (Device, error) {
	if c.Disk == nil {
		return c.open(ctx, ToWrite)
	}
	said := ""
	for try := 1; ; try++ {
		now, dev, err := c.claimOnce(ctx, f)
		if err == nil {
			c.Disk, c.source = now.Disk, now.source
			return dev, nil
		}
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		pause := claimPause
		var refused *RefusedError
		switch {
		case errors.As(err, &refused) && refused.For(guard.InUse) && f.Wait:
			if text := refused.Error(); text != said && f.Waiting != nil {
				f.Waiting(refused)
				said = text
			}
			pause, try = busyPause, 0
		case refused == nil || !refused.takenAgain() || try == claimTries:
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(pause):
		}
	}
}

func (c *Card) claimOnce(ctx context.Context, f Freeing) (now *Card, dev Device, err error) {
	if now, err = c.again(); err != nil {
		return nil, nil, err
	}
	if err := now.Refusal(f.Consent); err != nil {
		return nil, nil, err
	}
	if err := named(c.finder.Host.Free(ctx, *now.Disk), c.Given); err != nil {
		return nil, nil, err
	}
	dev, err = now.open(ctx, ToWrite)
	return now, dev, err
}

// takenAgain tells whether something took a card after it was freed, or is about to: what another program holds now, it
// may let go.
func (e *RefusedError) takenAgain() bool {
	return len(e.Why) == 1 && e.For(guard.Held, guard.Busy, guard.MountedElse)
}

// again finds out what the computer knows of the card now. The error is a *RefusedError if it is not the same card any
// more, put in as it was.
func (c *Card) again() (*Card, error) {
	all, err := c.finder.All()
	if err != nil {
		return nil, refuse(c.Given, guard.Reason{Cause: guard.NoHost, Err: err})
	}
	for _, now := range all {
		if now.Disk.Key != c.Disk.Key {
			continue
		}
		now.Given, now.named = c.Given, c.named
		like := c.Identity().Like(now.Identity())
		switch {
		case now.Size != c.Size:
			return nil, refuse(c.Given, guard.Reason{Cause: guard.Changed, Was: c.Size, N: now.Size})
		case like == Different:
			return nil, refuse(c.Given, guard.Reason{Cause: guard.OtherSerial})
		case now.Disk.Insertion != c.Disk.Insertion:
			return nil, refuse(c.Given, guard.Reason{Cause: guard.PutInAgain})
		}
		return now, nil
	}
	return nil, refuse(c.Given, guard.Reason{Cause: guard.TakenOut})
}

// MayWrite tells beforehand whether the user has the right to write the card, so that nobody is asked in vain. The
// error is a
// *RefusedError.
func (c *Card) MayWrite() error {
	if c.Disk == nil || c.finder.Host.MayWrite(*c.Disk) {
		return nil
	}
	return refuse(c.Given, guard.Reason{Cause: guard.NoRights})
}

// MayFree tells whether the card can be taken out of use now, as far as the system knows beforehand. The error is a
// *RefusedError.
func (c *Card) MayFree() error {
	if f, ok := c.finder.Host.(Forecaster); ok && c.Disk != nil {
		if now, err := c.again(); err == nil {
			return named(f.MayFree(*now.Disk), c.Given)
		}
	}
	return nil
}

// named gives a refusal the name by which the user knows the card.
func named(err error, given string) error {
	var refused *RefusedError
	if errors.As(err, &refused) {
		refused.Card = given
	}
	return err
}

// LetGo has the system read the new partition table, ejects the card if that is wanted and can be done, and closes it.
func (h *Hold) LetGo(ctx context.Context, want Leaving) Left {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.lost != nil { // it is closed, and gone
		return Left{}
	}
	return release(ctx, h.card, h.dev, want)
}

func release(ctx context.Context, c *Card, d Device, want Leaving) (left Left) {
	leaver, ok := c.source.(Leaver)
	if g, isGuarded := d.(guarded); ok && isGuarded && g.Present() {
		left = leaver.Leave(ctx, g.Medium, want)
	}
	if err := d.Close(); err != nil && left.Problem == nil {
		left.Problem = &LeaveError{Step: Closing, Card: c.Name, Err: err}
	}
	return left
}
