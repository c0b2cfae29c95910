package view

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"zipstamp/internal/shelf"
)

// ShelfLine is a download on the shelf, as it is shown and as the JSON document has it.
type ShelfLine struct {
	Name       string    `json:"name"`
	URL        string    `json:"url"`
	Path       string    `json:"path,omitempty"`
	Bytes      int64     `json:"bytes"`
	Size       int64     `json:"size,omitempty"` // of the whole file
	SHA256     string    `json:"sha256,omitempty"`
	Fetched    time.Time `json:"fetched,omitzero"`
	Asked      time.Time `json:"asked,omitzero"`
	Verdict    string    `json:"verdict,omitempty"`
	By         string    `json:"by,omitempty"`
	In         string    `json:"in,omitempty"`
	System     string    `json:"system,omitempty"`
	Version    string    `json:"version,omitempty"`
	Coming     int64     `json:"coming,omitempty"`     // bytes of a download that can be carried on
	Length     int64     `json:"length,omitempty"`     // that it will have; 0: not known
	Superseded string    `json:"superseded,omitempty"` // the system that is newer
	Broken     string    `json:"broken,omitempty"`
	Busy       bool      `json:"busy,omitempty"`
}

// NewShelfLine is the line of a download.
func NewShelfLine(e shelf.Entry) ShelfLine {
	l := ShelfLine{URL: e.URL, Path: e.Path, Bytes: e.Bytes, Broken: e.Broken, Busy: e.Busy, Name: e.Folder}
	if p := e.Part; p != nil {
		l.Name, l.Coming, l.Length = p.Name, e.Coming, max(p.Length, 0)
	}
	if w := e.Whole; w != nil {
		l.Name, l.Size, l.SHA256, l.Fetched, l.Asked = w.Name, w.Size, w.SHA256, w.Fetched, w.Asked
		l.Verdict, l.By, l.In, l.System, l.Version = string(w.Verdict), w.By, w.In, w.System, w.Release
	}
	return l
}

// ShelfSentence says how much is on the shelf.
func ShelfSentence(all []shelf.Entry, place string) string {
	if len(all) == 0 {
		return fmt.Sprintf("The shelf (%s) is empty.", word(place))
	}
	return fmt.Sprintf("%s on the shelf (%s), %s.", Count(len(all), "download"), word(place), Bytes(bytesOf(all)))
}

func bytesOf(all []shelf.Entry) (n int64) {
	for _, e := range all {
		n += e.Bytes
	}
	return n
}

// Shelf lists downloads.
func (v *Screen) Shelf(sentence string, lines []ShelfLine) {
	fmt.Fprintln(v.Out, fold(word(sentence), v.width, ""))
	for _, l := range lines {
		v.shelfLine(v.Out, l)
	}
}

func (v *Screen) shelfLine(w io.Writer, l ShelfLine) {
	name := word(l.Name)
	fmt.Fprintln(w, "  "+strong.Render(name)+", "+Bytes(l.Bytes))
	under := func(text string) { fmt.Fprintln(w, "    "+fold(text, v.width-4, "    ")) }
	if l.URL != "" {
		under("from " + word(l.URL))
	}
	var facts []string
	if l.System != "" {
		facts = append(facts, word(l.System+" "+l.Version))
	}
	if l.Size > 0 {
		facts = append(facts, "fetched "+ago(l.Fetched, time.Now()))
	}
	switch shelf.Verdict(l.Verdict) {
	case shelf.AsPublished:
		where := "as published"
		if l.By != "" {
			where += " at " + word(l.By)
		} else if l.In != "" {
			where += " in " + word(l.In)
		}
		facts = append(facts, where)
	case shelf.Signed:
		facts = append(facts, "signed by "+word(l.By))
	case shelf.Nothing:
		facts = append(facts, "nothing was published to compare it with")
	case shelf.Differs:
	}
	if len(facts) > 0 {
		under(strings.Join(facts, ", "))
	}
	if l.Coming > 0 && l.Size == 0 {
		text := fmt.Sprintf("%s have come", Bytes(l.Coming))
		if l.Length > 0 {
			text = fmt.Sprintf("%s of %s have come", Bytes(l.Coming), Bytes(l.Length))
		}
		under(text + "; the same command carries on")
	}
	if l.Superseded != "" {
		under("superseded by " + word(l.Superseded))
	}
	if l.Broken != "" {
		under("of no use: " + word(l.Broken))
	}
	if l.Busy {
		under("in use now")
	}
}

// NothingToClean says that everything on the shelf is of use.
func NothingToClean(all []shelf.Entry) string {
	if len(all) == 0 {
		return "The shelf is empty."
	}
	return fmt.Sprintf("Nothing to remove: %s, %s, of use.", Count(len(all), "download"), Bytes(bytesOf(all)))
}

// ErrCleanAsks says that there is nobody to ask.
var ErrCleanAsks = hinted("with --yes nothing is asked", "shelf clean asks first, and there is no terminal to ask on")

// NothingCleaned says that all stays.
const NothingCleaned = "Nothing was removed."

// ConfirmClean shows what will be removed, and asks.
func (v *Screen) ConfirmClean(ctx context.Context, lines []ShelfLine) (bool, error) {
	var n int64
	for _, l := range lines {
		v.shelfLine(v.Err, l)
		n += l.Bytes
	}
	typed, err := v.ask(ctx, fmt.Sprintf("Type remove to remove %s (%s), anything else to keep them:", Count(len(lines),
		"download"), Bytes(n)))
	return strings.EqualFold(strings.TrimSpace(typed), "remove"), err
}

// InUseOnShelf says that a download was not removed.
func InUseOnShelf(name string) string {
	return fmt.Sprintf("%s is in use, and stays.", word(name))
}

// Cleaned says what was removed.
func Cleaned(n int, freed int64) string {
	return fmt.Sprintf("%s removed; %s are free again.", Count(n, "download"), Bytes(freed))
}
