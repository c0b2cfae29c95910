package practice

import (
	"sync"
	"time"
)

// pace makes accesses take the time that they take on a card: one after another, each at the
// card's rate and with its latency. The zero value is ready.
type pace struct {
	mu   sync.Mutex
	free time.Time // when the card is done with what it was given
}

// wait returns when an access to n bytes is done.
func (p *pace) wait(n int, rate Rate, latency Duration) {
	if rate == 0 && latency == 0 {
		return
	}
	took := time.Duration(latency)
	if rate > 0 {
		took += time.Duration(float64(n) / float64(rate) * float64(time.Second))
	}
	p.mu.Lock()
	if now := time.Now(); p.free.Before(now) {
		p.free = now
	}
	p.free = p.free.Add(took)
	until := p.free
	p.mu.Unlock()
	// Sleep takes up to a millisecond longer than it should, so small accesses are waited for together.
	if left := time.Until(until); latency > 0 || left >= leastSleep {
		time.Sleep(left)
	}
}

// leastSleep is the shortest wait that is not put off.
const leastSleep = time.Millisecond

// writePace is how fast a write of n bytes goes, and what it takes besides: cards fade when their fast memory is full,
// and stall when they tidy up.
func (c *Card) writePace(n int) (Rate, Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	rate, latency := c.spec.WriteRate, c.spec.Latency
	if c.spec.FadeAfter > 0 && c.written >= int64(c.spec.FadeAfter) {
		rate = c.spec.FadeRate
	}
	if every := int64(c.spec.StallEvery); every > 0 && c.written/every != (c.written+int64(n))/every {
		latency += c.spec.Stall
	}
	return rate, latency
}
