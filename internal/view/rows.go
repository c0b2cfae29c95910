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

// rows draws the progress of several jobs on a terminal: a row with a bar for each, which begins anew with each phase.
type rows struct {
	all       *mpb.Progress
	w         io.Writer
	width     int
	textWidth int
	bars      []*mpb.Bar

	total *mpb.Bar // the line of all; nil before anything is known

	mu    sync.Mutex
	inAll string // how long all goes on
	now   []rowText
	drawn []rowText // in the frame at hand
}

// rowText is what stands in a row before and behind its bar.
type rowText struct{ phase, text string }

// What stands in a row beside the bar.
const (
	nameWidth    = 12 // at most; on a wide terminal wideNames
	wideNames    = 20
	rowPhase     = 10
	rowTextWidth = 40
	rowBarWidth  = 20 // at most
)

func newRows(v *Screen, jobs []Followed) *rows {
	r := &rows{w: v.Err, width: v.errWidth, now: make([]rowText, len(jobs)), drawn: make([]rowText, len(jobs))}
	most := nameWidth
	if v.errWidth >= wide {
		most = wideNames
	}
	names := 0
	for _, job := range jobs {
		names = max(names, min(ansi.StringWidth(word(job.Name)), most))
	}
	barWidth := min(v.errWidth-names-1-rowPhase-rowTextWidth, rowBarWidth)
	if barWidth < minBarWidth {
		barWidth = 0
	}
	r.textWidth = v.errWidth - names - 1 - rowPhase - barWidth - 2
	r.all = mpb.New(mpb.WithOutput(v.errTrue), mpb.WithAutoRefresh(), mpb.WithRefreshRate(lookEvery))
	for i, job := range jobs {
		head := func(decor.Statistics) string {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.drawn[i] = r.now[i]
			return fmt.Sprintf("%-*s %-*s", names, ansi.Truncate(word(job.Name), names, "~"), rowPhase,
				r.drawn[i].phase)
		}
		text := func(s decor.Statistics) string {
			r.mu.Lock()
			defer r.mu.Unlock()
			return ansi.Truncate(" "+r.drawn[i].text, max(s.AvailableWidth, 0), "")
		}
		bar, _ := r.all.Add(barSteps, barFiller(barWidth, v.unicode, v.colour), mpb.BarFillerTrim(), mpb.BarWidth(
			barWidth,
		),
			mpb.PrependDecorators(decor.Any(head)), mpb.AppendDecorators(decor.Any(text)))
		r.bars = append(r.bars, bar)
	}
	return r
}

func (r *rows) show(job int, now meter.Reading) {
	if now.Phase == meter.Flush && time.Since(now.Started) < time.Second/2 {
		return
	}
	share, _ := now.Share()
	r.set(job, string(now.Phase), progressText(now, time.Now(), r.textWidth), min(int64(share*barSteps), barSteps-1))
}

func (r *rows) done(job int, past meter.Reading) {
	switch past.Phase {
	case meter.Flush:
		return
	case meter.Finish:
		if !past.Short() {
			r.set(job, "done", "", barSteps-1)
		}
		return
	}
	phase, at := string(past.Phase), int64(barSteps-1) // a full bar would be taken for the end of the row
	if past.Short() {
		phase, at = "stopped", min(past.Done*barSteps/past.Total, at)
	}
	r.set(job, phase, doneText(past, r.textWidth), at)
}

func (r *rows) set(job int, phase, text string, at int64) {
	r.mu.Lock()
	r.now[job] = rowText{phase, text}
	r.mu.Unlock()
	r.bars[job].SetCurrent(at)
}

func (r *rows) foresee(all meter.Forecast, now time.Time) {
	text := inAll(all, now)
	r.mu.Lock()
	r.inAll = text
	r.mu.Unlock()
	if r.total == nil && text != "" {
		r.total = lineBelow(r.all, func() string {
			r.mu.Lock()
			defer r.mu.Unlock()
			return "in all: " + r.inAll
		})
	}
}

// say writes a line above the rows.
func (r *rows) say(sentence string) {
	_, _ = r.all.Write([]byte(fold(word(sentence), r.width, "") + "\n")) // what can't be shown is lost
}

func (r *rows) close() {
	if r.total != nil {
		r.total.Abort(true)
	}
	for _, b := range r.bars {
		b.Abort(false)
	}
	r.all.Wait()
	fmt.Fprintln(r.w)
}
