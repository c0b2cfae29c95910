package view

import (
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"zipstamp/internal/meter"
)

// How often progress is looked at and drawn, and how often it is told where it can't be drawn.
const (
	lookEvery = 100 * time.Millisecond
	tellEvery = 5 * time.Second
)

// Follow shows the progress of m, from now on until the function returned is called: a bar for each phase on
// a terminal, and elsewhere a line at the start of each phase and every 5 seconds.
func (v *Screen) Follow(m *meter.Meter) (stop func()) {
	var f follower = &lines{w: v.Err}
	if v.live {
		f = newBars(v)
	}
	end := make(chan struct{})
	var ended sync.WaitGroup
	ended.Go(func() {
		follow(m, f, end)
		f.close()
	})
	return func() {
		close(end)
		ended.Wait()
	}
}

// follower shows phases: show is called often while a phase goes on, done once when it has ended.
type follower interface {
	show(r meter.Reading)
	done(r meter.Reading)
	close()
}

func follow(m *meter.Meter, f follower, end <-chan struct{}) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	told := 0
	look := func() {
		for _, past := range m.Past()[told:] {
			f.done(past)
			told++
		}
	}
	for {
		look()
		if now := m.Read(); now.Phase != "" && now.Serial > told {
			f.show(now)
		}
		select {
		case <-tick.C:
		case <-end:
			look()
			return
		}
	}
}

// lines tells progress where there is no terminal.
type lines struct {
	w      io.Writer
	serial int // of the phase told last
	at     time.Time
}

func (l *lines) show(r meter.Reading) {
	now := time.Now()
	if r.Serial == l.serial && now.Sub(l.at) < tellEvery || r.Phase == meter.Flush && now.Sub(r.Started) < time.Second {
		return
	}
	l.serial, l.at = r.Serial, now
	fmt.Fprintf(l.w, "%s: %s\n", r.Phase, progressText(r, now))
}

func (l *lines) done(r meter.Reading) {
	if r.Phase != meter.Flush {
		fmt.Fprintf(l.w, "%s: %s\n", r.Phase, doneText(r))
	}
}

func (l *lines) close() {}

// progressText is how far a phase is: bytes, rate, and the time left.
func progressText(r meter.Reading, now time.Time) string {
	if r.Phase == meter.Flush {
		return "waiting until the card has kept everything"
	}
	took := now.Sub(r.Started)
	text := Bytes(r.Done)
	share, known := r.Share()
	switch {
	case r.Total > 0:
		text = fmt.Sprintf("%s of %s", Bytes(r.Done), Bytes(r.Total))
	case known:
		text = fmt.Sprintf("%s, %.0f %% of the file", Bytes(r.Done), 100*share)
	}
	if r.Done == 0 {
		return text
	}
	text += ", " + rate(r.Done, took)
	if known && share >= 0.02 && took > time.Second/2 {
		left := time.Duration(float64(took) * (1 - share) / share)
		text += ", " + span(left) + " left"
	}
	return text
}

func doneText(r meter.Reading) string {
	took := r.Ended.Sub(r.Started)
	text := fmt.Sprintf("%s in %s, %s", Bytes(r.Done), span(took), rate(r.Done, took))
	if r.Total > 0 && r.Done < r.Total {
		text = fmt.Sprintf("ended at %s of %s, after %s", Bytes(r.Done), Bytes(r.Total), span(took))
	}
	return text
}

// bars draws progress on a terminal, a bar a phase.
type bars struct {
	all     *mpb.Progress
	bar     *mpb.Bar
	serial  int
	unicode bool

	mu   sync.Mutex
	text string // beside the bar at hand
}

// barSteps is the resolution of a bar: finer than any terminal.
const barSteps = 10000

func newBars(v *Screen) *bars {
	return &bars{unicode: v.unicode, all: mpb.New(mpb.WithOutput(v.errTrue), mpb.WithAutoRefresh(), mpb.WithRefreshRate(lookEvery), mpb.WithWidth(barWidth(v.errWidth)))}
}

// barWidth leaves room for the text beside the bar.
func barWidth(width int) int { return min(max(width-phaseWidth-textWidth, 4), 30) }

// What stands beside a bar: the phase before it, and the text behind it.
const (
	phaseWidth = 11
	textWidth  = 46
)

func (b *bars) show(r meter.Reading) {
	if r.Phase == meter.Flush && time.Since(r.Started) < time.Second/2 {
		return
	}
	if r.Serial != b.serial {
		b.begin(r)
	}
	b.setText(progressText(r, time.Now()))
	share, _ := r.Share()
	b.bar.SetCurrent(min(int64(share*barSteps), barSteps-1))
}

func (b *bars) setText(text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.text = text
}

// begin adds the bar of a phase. Each has a text of its own, which stays as it was last.
func (b *bars) begin(r meter.Reading) {
	b.serial = r.Serial
	b.setText("")
	style := mpb.BarStyle().Lbound("").Filler("#").Tip("").Padding(".").Rbound("")
	if b.unicode {
		style = style.Filler("█").Padding("░")
	}
	var last string
	text := func(s decor.Statistics) string {
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.serial == r.Serial {
			last = b.text
		}
		return ansi.Truncate(" "+last, max(s.AvailableWidth, 0), "")
	}
	phase := fmt.Sprintf("%-*s", phaseWidth, r.Phase)
	b.bar = b.all.New(barSteps, style, mpb.BarFillerTrim(),
		mpb.PrependDecorators(decor.Name(phase)),
		mpb.AppendDecorators(decor.Any(text)))
}

func (b *bars) done(r meter.Reading) {
	if r.Serial != b.serial {
		if r.Phase == meter.Flush {
			return
		}
		b.begin(r)
	}
	b.setText(doneText(r))
	if r.Total > 0 && r.Done < r.Total {
		share, _ := r.Share()
		b.bar.SetCurrent(min(int64(share*barSteps), barSteps-1))
		b.bar.Abort(false)
	} else {
		b.bar.SetCurrent(barSteps)
	}
	b.bar.Wait()
}

func (b *bars) close() {
	if b.bar != nil {
		b.bar.Abort(false)
	}
	b.all.Wait()
}
