package view

import (
	"encoding/json"
	"io"
	"math"
	"sync"
	"time"

	"zipstamp/internal/document"
	"zipstamp/internal/meter"
)

// The ways of showing progress, besides the one that suits where it goes to.
const (
	ProgressJSON = "json" // lines for other programs
	ProgressNone = "none"
)

// ProgressKinds are the values of the flag.
var ProgressKinds = []string{"auto", ProgressJSON, ProgressNone}

// progressLine is a line of progress for other programs; docs/schemas has its schema.
type progressLine struct {
	Schema  document.Schema `json:"schema"`
	Version int             `json:"version"`
	Card    string          `json:"card,omitempty"` // where there are several
	Phase   meter.Phase     `json:"phase"`
	State   string          `json:"state"` // "running", "done", or "ended" before its end
	Done    int64           `json:"done"`  // bytes
	Total   int64           `json:"total,omitempty"`
	Share   *float64        `json:"share,omitempty"` // from 0 to 1
	Seconds float64         `json:"seconds"`
	Rate    float64         `json:"rate"` // bytes a second
	Left    *float64        `json:"left,omitempty"`

	LeftInAll *float64   `json:"left_in_all,omitempty"` // of all cards and phases, seconds
	Ends      *time.Time `json:"ends,omitempty"`        // when that is
	Guessed   bool       `json:"guessed,omitempty"`     // by how fast most cards are
	Alike     bool       `json:"alike,omitempty"`       // if the card goes on like this
	Good      *int64     `json:"good,omitempty"`        // bytes that a test has found to be so
	Bad       *int64     `json:"bad,omitempty"`
}

// jsonLines writes progress as lines of JSON: one when a phase begins or ends, and one a second while it goes on.
type jsonLines struct {
	w      io.Writer
	jobs   []Followed
	serial []int
	at     []time.Time
	ahead  meter.Forecast
	mu     sync.Mutex // held for writing a line
}

// foresee keeps how long all goes on, for the lines that follow.
func (l *jsonLines) foresee(all meter.Forecast, _ time.Time) { l.ahead = all }

func newJSONLines(w io.Writer, jobs []Followed) *jsonLines {
	return &jsonLines{w: w, jobs: jobs, serial: make([]int, len(jobs)), at: make([]time.Time, len(jobs))}
}

func (l *jsonLines) show(job int, r meter.Reading) {
	now := time.Now()
	if r.Serial == l.serial[job] && now.Sub(l.at[job]) < time.Second {
		return
	}
	l.serial[job], l.at[job] = r.Serial, now
	line := l.line(job, r, now)
	if share, known := r.Share(); known {
		rounded := math.Round(share*1e4) / 1e4
		line.Share = &rounded
		if more, ok := r.Left(now.Sub(r.Started)); ok {
			left := math.Round(more.Seconds()*10) / 10
			line.Left = &left
		}
	}
	if l.ahead.Known {
		left := math.Round(l.ahead.Left.Seconds()*10) / 10
		ends := now.Add(l.ahead.Left).Round(time.Second)
		line.LeftInAll, line.Ends, line.Guessed, line.Alike = &left, &ends, l.ahead.Guessed, l.ahead.Alike
	}
	if r.Judges {
		good := r.Good()
		line.Good, line.Bad = &good, &r.Bad
	}
	l.write(line)
}

func (l *jsonLines) done(job int, r meter.Reading) {
	line := l.line(job, r, r.Ended)
	line.State = "done"
	if r.Short() {
		line.State = "ended"
	}
	l.write(line)
}

func (l *jsonLines) line(job int, r meter.Reading, now time.Time) progressLine {
	took := max(now.Sub(r.Started).Seconds(), 0)
	line := progressLine{
		Schema: document.Progress, Version: document.Version, Card: l.jobs[job].Name, Phase: r.Phase, State: "running",
		Done: r.Done, Seconds: math.Round(took*1000) / 1000,
	}
	if r.Expects() {
		line.Total = r.Total
	}
	if took > 0 {
		line.Rate = math.Round(float64(r.Done-r.Before) / took)
	}
	return line
}

func (l *jsonLines) write(line any) {
	text, err := json.Marshal(line)
	if err != nil {
		panic(err) // plain structs
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	_, _ = l.w.Write(append(text, '\n')) // what can't be shown is lost
}

func (l *jsonLines) say(sentence string) {
	l.write(struct {
		Schema  document.Schema `json:"schema"`
		Version int             `json:"version"`
		Say     string          `json:"say"`
	}{document.Progress, document.Version, word(sentence)})
}

func (l *jsonLines) close() {}

// nothing shows no progress; what a person must know is said all the same.
type nothing struct{ v *Screen }

func (n nothing) show(int, meter.Reading) {}
func (n nothing) done(int, meter.Reading) {}

func (n nothing) foresee(meter.Forecast, time.Time) {}

func (n nothing) say(sentence string) { n.v.Say(sentence) }
func (n nothing) close()              {}
