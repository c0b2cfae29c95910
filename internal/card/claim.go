package card

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"zipstamp/internal/card/guard"
)

// Freeing is how a card is freed that is in use.
type Freeing struct {
	Consent
	Wait    bool        // for programs that use what is on it to end
	Waiting func(error) // told what is waited for, when that changes; may be nil
}

// How often, and how long apart, a card is tried to be claimed that something else takes in between, such as a desktop that mounts it again.
const (
	claimTries = 25
	claimPause = 200 * time.Millisecond
	busyPause  = time.Second
)

// Claim frees the card (swap is turned off, file systems are unmounted), opens it for exclusive use, and sees to it that it is still the
// card that was found. From then on nothing else can mount or write it. The error is a *RefusedError.
func (c *Card) Claim(ctx context.Context, f Freeing) (*Hold, error) {
	claim := func(ctx context.Context, c *Card) (Device, error) { return c.claim(ctx, f) }
	dev, err := claim(ctx, c)
	if err != nil {
		return nil, err
	}
	return &Hold{card: c, dev: dev, claim: claim}, nil
}

func (c *Card) claim(ctx context.Context, f Freeing) (Device, error) {
	if c.Kind != Block {
		return c.Open()
	}
	said := ""
	for try := 1; ; try++ {
		now, err := c.again()
		if err == nil {
			err = now.refusedFor(f.Consent)
		}
		if err == nil {
			err = now.free(ctx)
		}
		var dev Device
		if err == nil {
			dev, err = now.openHeld(ctx)
		}
		pause := claimPause
		switch {
		case err == nil:
			c.Disk = now.Disk
			return dev, nil
		case ctx.Err() != nil:
			return nil, context.Cause(ctx)
		case errors.Is(err, errInUse) && f.Wait:
			if text := err.Error(); text != said && f.Waiting != nil {
				f.Waiting(err)
				said = text
			}
			pause, try = busyPause, 0
		case !errors.Is(err, errTakenAgain) || try == claimTries:
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(pause):
		}
	}
}

// refusedFor is Refusal for a card that was allowed before: what another program holds now, it may be about to mount.
func (c *Card) refusedFor(o Consent) error {
	reasons := c.Reasons(o)
	refused := c.refusal(reasons)
	if refused == nil {
		return nil
	}
	if len(reasons) == 1 && reasons[0].Cause == guard.Held {
		refused.Err = errTakenAgain
	}
	return refused
}

// errInUse says that programs use what is on a card, errTakenAgain that something took it after it was freed.
var (
	errInUse      = errors.New("in use")
	errTakenAgain = errors.New("taken again")
)

// again finds out what the computer knows of the card now. The error is a *RefusedError if it is not the same card any more.
func (c *Card) again() (*Card, error) {
	all, err := All()
	if err != nil {
		return nil, &RefusedError{Card: c.Given, Reasons: []string{err.Error()}, Err: err}
	}
	then := c.Disk.Identity()
	for _, now := range all {
		if now.Disk.Number != then.Number {
			continue
		}
		now.Given, now.named = c.Given, c.named
		if what := then.Changed(now.Disk.Identity()); what != "" {
			return nil, &RefusedError{
				Card: c.Given, Reasons: []string{"it is not the card any more that was chosen: " + what}, Next: "see what zipstamp cards shows, and choose again",
			}
		}
		return now, nil
	}
	return nil, &RefusedError{Card: c.Given, Reasons: []string{"it was taken out"}, Next: "put the card in again, and run the command again"}
}

// MayWrite tells beforehand whether the user has the right to write the card, so that nobody is asked in vain. The error is a
// *RefusedError.
func (c *Card) MayWrite() error {
	if c.Kind != Block || writable(c.Path) || desktopHelps() {
		return nil
	}
	return c.refusedOpen(fs.ErrPermission)
}

// openHeld opens a card that has been freed.
func (c *Card) openHeld(ctx context.Context) (Device, error) {
	m, err := openBlock(c.Path)
	if errors.Is(err, fs.ErrPermission) {
		m, err = openByDesktop(ctx, c.Path, err)
	}
	if isBusy(err) {
		refused := c.refusedOpen(err).(*RefusedError)
		refused.Err = errors.Join(err, errTakenAgain)
		return nil, refused
	}
	if err != nil {
		return nil, c.refusedOpen(err)
	}
	if what := m.differs(c); what != "" {
		m.Close()
		return nil, &RefusedError{Card: c.Given, Reasons: []string{"it is not the card any more that was chosen: " + what}, Next: "run the command again"}
	}
	m.dropPartitions(c.Disk.Parts)
	return guarded{m, c.Path}, nil
}

// Leaving is how a card is let go.
type Leaving struct {
	Eject    bool // so that it can be taken out
	PowerOff bool // the stick or reader, where it is on the USB
}

// Left is how a card was let go.
type Left struct {
	Ejected    bool  // it can be taken out
	PoweredOff bool  // likewise
	Problem    error // why not all that was wanted was done; nil if it was
}

// LetGo has the kernel read the new partition table, ejects the card if that is wanted and can be done, and closes it.
func (h *Hold) LetGo(ctx context.Context, want Leaving) Left {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.lost != nil { // it is closed, and gone
		return Left{}
	}
	return release(ctx, h.card, h.dev, want)
}

func release(ctx context.Context, c *Card, d Device, want Leaving) (left Left) {
	if g, ok := d.(guarded); ok && c.Kind == Block && g.present() {
		if b, ok := g.medium.(*block); ok {
			left = b.letGo(ctx, c, want)
		}
	}
	if err := d.Close(); err != nil && left.Problem == nil {
		left.Problem = fmt.Errorf("close %s: %w", c.Name, err)
	}
	return left
}
