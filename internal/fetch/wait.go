package fetch

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Waits between tries: the first, the longest, and the longest that a host may ask for.
const (
	firstWait  = 500 * time.Millisecond
	longWait   = 30 * time.Second
	mostAfter  = 5 * time.Minute
	fewerTries = 3 // of a host that has never answered
)

// waits are those between tries, which grow until there is progress.
type waits struct {
	most  int // tries without progress
	tries int
	grow  *backoff.ExponentialBackOff
}

func (c *Client) waits() *waits {
	w := &waits{most: min(c.Tries, fewerTries), grow: backoff.NewExponentialBackOff()}
	w.grow.InitialInterval, w.grow.MaxInterval, w.grow.Multiplier = firstWait, longWait, 2
	w.grow.Reset()
	return w
}

// progress starts anew: something came.
func (w *waits) progress(c *Client) {
	w.tries, w.most = 0, c.Tries
	w.grow.Reset()
}

// again waits before the next try. It returns e if there shall be none.
func (w *waits) again(ctx context.Context, e *Error, tell func(Event)) error {
	w.tries++
	wait := max(w.grow.NextBackOff(), e.After)
	if w.tries >= w.most || e.After > mostAfter {
		return e
	}
	if tell != nil {
		tell(Event{Kind: Waits, For: wait, Err: e})
	}
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(wait):
		return nil
	}
}

// retryAfter is how long a host asks to wait (RFC 9110, section 10.2.3); 0 if it says nothing.
func retryAfter(h http.Header, now time.Time) time.Duration {
	text := h.Get("Retry-After")
	if text == "" {
		return 0
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return time.Duration(min(max(n, 0), 1<<31)) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(at.Sub(now), 0)
	}
	return 0
}
