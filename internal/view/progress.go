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

// Followed is what is shown of a job at work. The name may be empty where there is only one.
type Followed struct {
	Name  string
	Title string // what is done with what; may be empty
	Meter *meter.Meter
	Whole func() meter.Reading // in place of a meter: how far all of the work is; nil: there is none
}

// read is what is shown now.
func (f Followed) read() meter.Reading {
	if f.Whole != nil {
		return f.Whole()
	}
	return f.Meter.Read()
}

// What is followed besides cards.
const (
	TheDownload = "image"
	AllOfIt     = "total"
	AllPhase    = meter.Phase("stamp")
)

// Progress is progress being shown.
type Progress struct {
	shown followerOfAll
	end   chan struct{}
	ended sync.WaitGroup
}

// Follow shows the progress of jobs, from now on until Stop is called. On a terminal, one job has a bar for each phase,
// and of several each has one; elsewhere there is a line at the start of each phase and every 5 seconds.
func (v *Screen) Follow(jobs ...Followed) *Progress {
	p := &Progress{end: make(chan struct{})}
	switch {
	case v.progress == ProgressJSON:
		p.shown = newJSONLines(v.Err, jobs)
	case v.progress == ProgressNone || v.quiet:
		p.shown = nothing{v}
	case !v.live:
		p.shown = newLines(v, jobs)
	case len(jobs) == 1:
		p.shown = newBars(v)
	default:
		p.shown = newRows(v, jobs)
	}
	if _, unseen := p.shown.(nothing); !unseen {
		for _, job := range jobs {
			if job.Title != "" {
				p.shown.say(job.Title)
			}
		}
	}
	p.ended.Go(func() {
		follow(jobs, p.shown, p.end)
		p.shown.close()
	})
	return p
}

// Announce shows a sentence that is no more than a courtesy above what is drawn.
func (p *Progress) Announce(sentence string) {
	if quiet, ok := p.shown.(nothing); !ok || !quiet.v.quiet {
		p.shown.say(sentence)
	}
}

// Say shows a sentence above what is drawn.
func (p *Progress) Say(sentence string) { p.shown.say(sentence) }

// Stop ends the showing.
func (p *Progress) Stop() {
	close(p.end)
	p.ended.Wait()
}

// followerOfAll shows the phases of jobs: show is called often while a phase goes on, done once when it has ended,
// perhaps without a show before: then it was too short to be worth a word.
type followerOfAll interface {
	show(job int, r meter.Reading)
	done(job int, r meter.Reading)
	foresee(all meter.Forecast, now time.Time) // how long all of the jobs go on, by what is known now
	say(sentence string)
	close()
}

func follow(jobs []Followed, f followerOfAll, end <-chan struct{}) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	told := make([]int, len(jobs))
	seers := make([]meter.Forecaster, len(jobs))
	look := func() {
		for i, job := range jobs {
			for _, past := range job.Meter.Past()[told[i]:] {
				f.done(i, past)
				told[i]++
			}
		}
	}
	for {
		look()
		var all meter.Forecast
		for i, job := range jobs {
			now := job.read()
			if now.Phase == "" || now.Serial <= told[i] {
				continue
			}
			seen := seers[i].See(now, time.Now())
			if seen.Slower {
				f.say(SlowerSentence(job.Name, now.Phase, seen))
			}
			if seen.Known && (!all.Known || seen.Left > all.Left) {
				all = seen
			}
			f.show(i, now)
		}
		f.foresee(all, time.Now())
		select {
		case <-tick.C:
		case <-end:
			look()
			return
		}
	}
}

// inAll is how long all of it goes on, and until when.
func inAll(f meter.Forecast, now time.Time) string {
	if !f.Known {
		return ""
	}
	ends := now.Add(f.Left).Local()
	form := "15:04"
	if f.Left < 10*time.Minute {
		form = "15:04:05"
	}
	if ends.YearDay() != now.Local().YearDay() {
		form = "15:04 on 2 January"
	}
	text := fmt.Sprintf("%s left, until %s", span(f.Left), ends.Format(form))
	switch {
	case f.Guessed:
		text += ", if this card is as fast as most"
	case f.Alike:
		text += ", if the card goes on like this"
	}
	return text
}

// SlowerSentence says that something has become much slower.
func SlowerSentence(name string, p meter.Phase, f meter.Forecast) string {
	if name == "" {
		name = "The card"
	}
	return fmt.Sprintf("%s has become slower (%s): %s, after %s before.", word(name), p, rateText(f.Now),
		rateText(f.Before))
}

// lines tells progress where there is no terminal.
type lines struct {
	v      *Screen
	prefix []string // of each job
	serial []int    // of the phase told last
	at     []time.Time
	ahead  time.Time  // when it was told how long all goes on
	mu     sync.Mutex // held for writing a line
}

func newLines(v *Screen, jobs []Followed) *lines {
	l := &lines{v: v, serial: make([]int, len(jobs)), at: make([]time.Time, len(jobs))}
	for _, job := range jobs {
		prefix := ""
		if job.Name != "" {
			prefix = job.Name + " "
		}
		l.prefix = append(l.prefix, prefix)
	}
	return l
}

func (l *lines) show(job int, r meter.Reading) {
	now := time.Now()
	if r.Serial == l.serial[job] && now.Sub(l.at[job]) < tellEvery || r.Phase == meter.Flush &&
		now.Sub(r.Started) < time.Second {
		return
	}
	l.serial[job], l.at[job] = r.Serial, now
	l.write(fmt.Sprintf("%s%s: %s", l.prefix[job], r.Phase, progressText(r, now, standard)))
}

func (l *lines) foresee(all meter.Forecast, now time.Time) {
	if text := inAll(all, now); text != "" && now.Sub(l.ahead) >= tellEvery {
		l.ahead = now
		l.write("in all: " + text)
	}
}

func (l *lines) done(job int, r meter.Reading) {
	if r.Serial == l.serial[job] && r.Phase != meter.Flush {
		l.write(fmt.Sprintf("%s%s: %s", l.prefix[job], r.Phase, doneText(r, standard)))
	}
}

func (l *lines) write(line string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	fmt.Fprintln(l.v.Err, line)
}

func (l *lines) say(sentence string) { l.write(fold(sentence, l.v.errWidth, "")) }

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
	if r.Judges {
		done = Bytes(r.Good()) + " good"
		if r.Bad > 0 {
			done += ", " + Bytes(r.Bad) + " bad"
		}
		if r.Expects() {
			done += " of " + Bytes(r.Total)
		}
	}
	speed, left := rate(r.Done-r.Before, took), ""
	if more, ok := r.Left(took); ok && took > time.Second/2 {
		left = span(more) + " left"
	}
	if left == "" {
		return fit(width, done, speed)
	}
	// speed and time matter most where there is little room
	for _, text := range []string{
		done + ", " + speed + ", " + left, fmt.Sprintf("%.0f %%, %s, %s", 100*share, speed, left), speed + ", " + left,
	} {
		if ansi.StringWidth(text) <= width {
			return text
		}
	}
	return fit(width, left)
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
	if r.Done == 0 && !r.Short() {
		return fit(width, "in "+span(took))
	}
	if r.Short() {
		return fit(width, fmt.Sprintf("ended at %s of %s", Bytes(r.Done), Bytes(r.Total)), "after "+span(took))
	}
	if r.Before > 0 {
		return fit(width, fmt.Sprintf("%s more in %s", Bytes(r.Done-r.Before), span(took)), rate(r.Done-r.Before, took))
	}
	return fit(width, fmt.Sprintf("%s in %s", Bytes(r.Done), span(took)), rate(r.Done, took))
}

// bars draws the progress of one job on a terminal, a bar a phase.
type bars struct {
	all                 *mpb.Progress
	w                   io.Writer
	bar                 *mpb.Bar
	total               *mpb.Bar // the line of all; nil before anything is known
	serial              int
	unicode, colour     bool
	barWidth, textWidth int
	width               int

	mu    sync.Mutex
	text  string // beside the bar at hand
	inAll string // how long all goes on
}

// bottomLine is the place of a line below all others.
const bottomLine = 1 << 20

// barSteps is the resolution of a bar: finer than any terminal.
const barSteps = 10000

func newBars(v *Screen) *bars {
	b := &bars{
		unicode: v.unicode, colour: v.colour, w: v.Err, width: v.errWidth,
		barWidth: min(v.errWidth-phaseWidth-textWidth, maxBarWidth),
	}
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

func (b *bars) show(_ int, r meter.Reading) {
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
	filler := barFiller(b.barWidth, b.unicode, b.colour)
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
	b.bar, _ = b.all.Add(barSteps, filler, mpb.BarFillerTrim(), mpb.BarWidth(b.barWidth),
		mpb.PrependDecorators(decor.Name(phase)),
		mpb.AppendDecorators(decor.Any(text)))
}

// barFiller draws a bar; nil is none.
func barFiller(width int, unicode, colour bool) mpb.BarFiller {
	if width == 0 {
		return nil
	}
	style := mpb.BarStyle().Lbound("").Filler("#").Tip("").Padding(".").Rbound("")
	if unicode {
		style = style.Filler("━").Padding("─")
	}
	if colour {
		style = style.FillerMeta(func(s string) string { return running.Render(s) }).PaddingMeta(func(s string) string {
			return faint.Render(s)
		})
	}
	return style.Build()
}

func (b *bars) foresee(all meter.Forecast, now time.Time) {
	text := inAll(all, now)
	b.mu.Lock()
	b.inAll = text
	b.mu.Unlock()
	if b.total == nil && text != "" {
		b.total = lineBelow(b.all, func() string {
			b.mu.Lock()
			defer b.mu.Unlock()
			return fmt.Sprintf("%-*s %s", phaseWidth-1, "in all", b.inAll)
		})
	}
}

// lineBelow is a line of text below all bars, as long as they are drawn.
func lineBelow(all *mpb.Progress, text func() string) *mpb.Bar {
	line := func(s decor.Statistics) string { return ansi.Truncate(text(), max(s.AvailableWidth, 0), "") }
	bar, _ := all.Add(barSteps, nil, mpb.BarPriority(bottomLine), mpb.PrependDecorators(decor.Any(line)),
		mpb.BarRemoveOnComplete())
	return bar
}

func (b *bars) done(_ int, r meter.Reading) {
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

// say writes a line above the bars.
func (b *bars) say(sentence string) {
	_, _ = b.all.Write([]byte(fold(sentence, b.width, "") + "\n")) // what can't be shown is lost
}

// close ends the drawing; a blank line keeps it apart from the result.
func (b *bars) close() {
	if b.total != nil {
		b.total.Abort(true)
	}
	if b.bar != nil {
		b.bar.Abort(false)
	}
	b.all.Wait()
	if b.bar != nil {
		fmt.Fprintln(b.w)
	}
}
