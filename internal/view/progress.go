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

// follower shows phases: show is called often while a phase goes on, done once when it has ended, perhaps without
// a show before: then it was too short to be worth a word.
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
	fmt.Fprintf(l.w, "%s: %s\n", r.Phase, progressText(r, now, standard))
}

func (l *lines) done(r meter.Reading) {
	if r.Serial == l.serial && r.Phase != meter.Flush {
		fmt.Fprintf(l.w, "%s: %s\n", r.Phase, doneText(r, standard))
	}
}

func (l *lines) close() {}

// progressText is how far a phase is: bytes, rate, and the time left. What doesn't fit into width is left
// out, from the end.
func progressText(r meter.Reading, now time.Time, width int) string {
	if r.Phase == meter.Flush {
		return fit(width, "waiting until the card has kept everything")
	}
	took := now.Sub(r.Started)
	done := Bytes(r.Done)
	share, known := r.Share()
	switch {
	case r.Expects():
		done = fmt.Sprintf("%s of %s", Bytes(r.Done), Bytes(r.Total))
	case known:
		done = fmt.Sprintf("%s, %.0f %% of the file", Bytes(r.Done), 100*share)
	}
	if r.Done == 0 {
		return fit(width, done)
	}
	parts := []string{done, rate(r.Done, took)}
	if known && share >= 0.02 && took > time.Second/2 {
		left := time.Duration(float64(took) * (1 - share) / share)
		parts = append(parts, span(left)+" left")
	}
	return fit(width, parts...)
}

// fit joins the parts that fit.
func fit(width int, parts ...string) string {
	text := parts[0]
	for _, p := range parts[1:] {
		if ansi.StringWidth(text)+2+ansi.StringWidth(p) > width {
			break
		}
		text += ", " + p
	}
	return ansi.Truncate(text, max(width, 0), "")
}

func doneText(r meter.Reading, width int) string {
	took := r.Ended.Sub(r.Started)
	if r.Short() {
		return fit(width, fmt.Sprintf("ended at %s of %s", Bytes(r.Done), Bytes(r.Total)), "after "+span(took))
	}
	return fit(width, fmt.Sprintf("%s in %s", Bytes(r.Done), span(took)), rate(r.Done, took))
}

// bars draws progress on a terminal, a bar a phase.
type bars struct {
	all                 *mpb.Progress
	w                   io.Writer
	bar                 *mpb.Bar
	serial              int
	unicode, colour     bool
	barWidth, textWidth int

	mu   sync.Mutex
	text string // beside the bar at hand
}

// barSteps is the resolution of a bar: finer than any terminal.
const barSteps = 10000

func newBars(v *Screen) *bars {
	b := &bars{unicode: v.unicode, colour: v.colour, w: v.Err, barWidth: min(v.errWidth-phaseWidth-textWidth, maxBarWidth)}
	if b.barWidth < minBarWidth {
		b.barWidth = 0 // the text says more
	}
	b.textWidth = v.errWidth - phaseWidth - b.barWidth - 2
	b.all = mpb.New(mpb.WithOutput(v.errTrue), mpb.WithAutoRefresh(), mpb.WithRefreshRate(lookEvery))
	return b
}

// What stands beside a bar: the phase before it, and the text behind it. A bar that would be shorter than
// minBarWidth is left out.
const (
	phaseWidth  = 11
	textWidth   = 46
	minBarWidth = 8
	maxBarWidth = 30
)

func (b *bars) show(r meter.Reading) {
	if r.Phase == meter.Flush && time.Since(r.Started) < time.Second/2 {
		return
	}
	if r.Serial != b.serial {
		b.begin(r)
	}
	b.setText(progressText(r, time.Now(), b.textWidth))
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
		style = style.Filler("━").Padding("─")
	}
	if b.colour {
		style = style.FillerMeta(func(s string) string { return running.Render(s) }).PaddingMeta(func(s string) string { return faint.Render(s) })
	}
	var last string
	text := func(s decor.Statistics) string {
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.serial == r.Serial {
			last = b.text
		}
		return ansi.Truncate(" "+last, max(s.AvailableWidth, 0), "") // the terminal may have become narrower
	}
	phase := fmt.Sprintf("%-*s", phaseWidth, r.Phase)
	filler := style.Build()
	if b.barWidth == 0 {
		filler = nil
	}
	b.bar, _ = b.all.Add(barSteps, filler, mpb.BarFillerTrim(), mpb.BarWidth(b.barWidth),
		mpb.PrependDecorators(decor.Name(phase)),
		mpb.AppendDecorators(decor.Any(text)))
}

func (b *bars) done(r meter.Reading) {
	if r.Serial != b.serial {
		return
	}
	b.setText(doneText(r, b.textWidth))
	if r.Short() {
		b.bar.Abort(false)
	} else {
		b.bar.SetCurrent(barSteps)
	}
	b.bar.Wait()
}

// close ends the drawing; a blank line keeps it apart from the result.
func (b *bars) close() {
	if b.bar != nil {
		b.bar.Abort(false)
	}
	b.all.Wait()
	if b.bar != nil {
		fmt.Fprintln(b.w)
	}
}
