// Package view is what a person sees: the wording of results and errors, progress, and prompts. It
// decides nothing; what it shows was found out by others.
package view

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"os"
	"reflect"
	"slices"
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"zipstamp/internal/card"
)

// The width of the text: never below narrow, where words would break; on a terminal that is
// wider than wide, lines would be too long to read.
const (
	narrow   = 40
	standard = 80
	wide     = 100
)

// Screen writes results to Out, and progress, prompts and errors to Err.
type Screen struct {
	Out, Err io.Writer
	typed    *bufio.Reader // what is typed in

	width    int
	live     bool // Err is a terminal, on which progress can be drawn
	asks     bool // In and Err are terminals, so questions can be asked
	unicode  bool
	colour   bool      // Err takes colours
	errTrue  io.Writer // Err without the removal of styles
	errWidth int
	here     card.Local
	quiet    bool
	progress string
	restore  []func() // what was changed of the terminals
}

// Streams are where a Screen reads and writes.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
	Environ  []string // as os.Environ
	NoColor  bool     // asked for by an option
	Quiet    bool     // likewise: no progress, and no announcements
	Progress string   // likewise: one of ProgressKinds; empty: what suits Err
	Here     card.Local
}

// NewScreen finds out what the streams are: styles are kept for terminals only, and colours not where
// NO_COLOR is set.
func NewScreen(s Streams) *Screen {
	restore, plain := []func(){}, false
	for _, w := range []io.Writer{s.Out, s.Err} {
		if isTerminal(w) {
			takes, undo := takesSequences(w.(*os.File))
			restore = append(restore, undo)
			plain = plain || !takes
		}
	}
	s.NoColor = s.NoColor || plain
	errProfiled := profiled(s.Err, s)
	return &Screen{
		Out: &result{w: profiled(s.Out, s)}, Err: errProfiled,
		typed: bufio.NewReader(cmp.Or[io.Reader](s.In, strings.NewReader(""))), errTrue: s.Err,
		colour: errProfiled.Profile >= colorprofile.ANSI, width: widthOf(s.Out, s.Err), errWidth: widthOf(s.Err),
		live:    isTerminal(s.Err) && !plain && !slices.Contains(s.Environ, "TERM=dumb"),
		unicode: isUTF8(s.Environ) || isTerminal(s.Out) && drawsLines(s.Environ),
		asks:    isTerminal(s.Err) && isTerminal(s.In), here: s.Here, quiet: s.Quiet, progress: s.Progress,
		restore: restore,
	}
}

// Close leaves the terminals as they were.
func (v *Screen) Close() {
	for _, restore := range slices.Backward(v.restore) { // both may be the same one
		restore()
	}
}

// result is where results go. It keeps the first error, since a result that was not written must not end as
// if it had been.
type result struct {
	w   io.Writer
	err error
}

func (r *result) Write(p []byte) (int, error) {
	n, err := r.w.Write(p)
	if err != nil && r.err == nil {
		r.err = err
	}
	return n, err
}

// Lost tells why a result could not be written; nil if all was.
func (v *Screen) Lost() error { return v.Out.(*result).err }

// Asks tells whether there is a person to ask.
func (v *Screen) Asks() bool { return v.asks }

func profiled(w io.Writer, s Streams) *colorprofile.Writer {
	p := colorprofile.NewWriter(w, s.Environ)
	if s.NoColor {
		p.Profile = min(p.Profile, colorprofile.ASCII)
	}
	return p
}

func isTerminal(stream any) bool {
	f, ok := stream.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// widthOf is the width of the first stream that is a terminal.
func widthOf(streams ...io.Writer) int {
	for _, s := range streams {
		if !isTerminal(s) {
			continue
		}
		if w, _, err := term.GetSize(int(s.(*os.File).Fd())); err == nil && w > 0 {
			return min(max(w, narrow), wide)
		}
	}
	return standard
}

// isUTF8 goes by the locale, as POSIX orders its variables.
func isUTF8(environ []string) bool {
	locale := strings.ToUpper(
		cmp.Or(valueIn(environ, "LC_ALL"), valueIn(environ, "LC_CTYPE"), valueIn(environ, "LANG")),
	)
	return strings.Contains(locale, "UTF-8") || strings.Contains(locale, "UTF8")
}

// valueIn is that of a variable; of one that is there twice, the last.
func valueIn(environ []string, name string) (value string) {
	for _, e := range environ {
		if v, ok := strings.CutPrefix(e, name+"="); ok {
			value = v
		}
	}
	return value
}

var (
	good    = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Green)
	bad     = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Red)
	caution = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Yellow)
	strong  = lipgloss.NewStyle().Bold(true)
	running = lipgloss.NewStyle().Foreground(lipgloss.Cyan)
	faint   = lipgloss.NewStyle().Faint(true)
)

// answer is a result: the sentence, then the facts.
type answer struct {
	style    lipgloss.Style
	sentence string
	facts    []Fact
	notes    []string // sentences after the facts
	groups   int      // of digits of a digest in a line
}

// Fact is a line of a result. Text may have several lines, which are kept.
type Fact struct{ Label, Text string }

// add adds a fact, if there is something to say. Texts in it are made fit to be a part of a line; one that is all of
// the fact may have several lines, and has been made fit line by line.
func (a *answer) add(label, format string, args ...any) {
	if format != "%s" {
		for i, arg := range args {
			switch arg := arg.(type) {
			case string:
				args[i] = word(arg)
			case error:
				args[i] = word(arg.Error())
			}
		}
	}
	if text := fmt.Sprintf(format, args...); text != "" {
		a.facts = append(a.facts, Fact{word(label), text})
	}
}

// severalLines is a text of several lines that is fit to be shown.
type severalLines string

func (a *answer) note(format string, args ...any) {
	a.notes = append(a.notes, fmt.Sprintf(format, args...))
}

// print writes an answer to w in lines no longer than width.
func (a *answer) print(w io.Writer, width int) {
	fmt.Fprintln(w, styled(a.style, fold(word(a.sentence), width, "")))
	labels := 0
	for _, f := range a.facts {
		labels = max(labels, lipgloss.Width(f.Label))
	}
	for _, f := range a.facts {
		indent := strings.Repeat(" ", 2+labels+2)
		label := faint.Render(f.Label) + strings.Repeat(" ", labels-lipgloss.Width(f.Label))
		fmt.Fprintf(w, "  %s  %s\n", label, fold(f.Text, width-len(indent), indent))
	}
	for _, n := range a.notes {
		fmt.Fprintln(w, fold(word(n), width, ""))
	}
}

// styled puts each line into the style; the style itself would pad them to one width.
func styled(style lipgloss.Style, text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = style.Render(lines[i])
	}
	return strings.Join(lines, "\n")
}

// fold breaks text between words into lines of width cells, and a word only where it is longer than that and no path:
// paths and commands stay whole, so that they can be copied. Lines after the first get an indent. Lines that the text
// has already are kept. Control characters, which a file's name may have, are shown and not obeyed.
func fold(text string, width int, indent string) string {
	width = max(width, 20)
	var lines []string
	for line := range strings.SplitSeq(text, "\n") {
		lines = append(lines, foldLine(visible(line), width)...)
	}
	return strings.ReplaceAll(strings.Join(lines, "\n"+indent), unbroken, " ")
}

// unbroken stands for a blank at which no line ends; fold makes a blank of it. It is of Unicode's private use area, so
// it means nothing in texts from outside.
const unbroken = "\ue000"

// oneLine is a path or a command that stays in one line.
func oneLine(text string) string { return strings.ReplaceAll(word(text), " ", unbroken) }

func foldLine(text string, width int) []string {
	var lines []string
	line := ""
	for i, word := range strings.Split(text, " ") {
		if i > 0 && ansi.StringWidth(line)+1+ansi.StringWidth(word) <= width {
			line += " " + word
			continue
		}
		if i > 0 {
			lines = append(lines, line)
		}
		for ansi.StringWidth(word) > width && !strings.ContainsAny(word, `/\`+unbroken) {
			start := ansi.Truncate(word, width, "")
			lines = append(lines, start)
			word = word[len(start):]
		}
		line = word
	}
	return append(lines, line)
}

// visible writes control characters as escapes, and those that are not seen but turn the order of what is.
func visible(s string) string {
	if !strings.ContainsFunc(s, isControl) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if isControl(r) {
			fmt.Fprintf(&b, `\x%02x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func isControl(r rune) bool {
	return r < ' ' || r >= 0x7f && r < 0xa0 || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)
}

// word is a text from outside (a name in an archive, a label, a title) as part of a line: it has no line breaks.
func word(s string) string {
	return visible(strings.ToValidUTF8(s, "\uFFFD"))
}

// fitToShow gives a plain value, such as a receipt, with all its texts made fit to show: each is a part of a line.
func fitToShow[T any](v T) T {
	copied := reflect.ValueOf(&v).Elem()
	fitValue(copied)
	return v
}

func fitValue(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		if text := v.String(); v.CanSet() {
			v.SetString(word(text))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				fitValue(v.Field(i))
			}
		}
	case reflect.Pointer:
		if v.IsNil() || v.Elem().Kind() != reflect.Struct || !v.CanSet() {
			return
		}
		own := reflect.New(v.Elem().Type())
		own.Elem().Set(v.Elem())
		fitValue(own.Elem())
		v.Set(own)
	case reflect.Slice:
		if v.IsNil() || !v.CanSet() {
			return
		}
		own := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		reflect.Copy(own, v)
		for i := range own.Len() {
			fitValue(own.Index(i))
		}
		v.Set(own)
	case reflect.Map:
		if v.IsNil() || !v.CanSet() || v.Type().Elem().Kind() != reflect.String ||
			v.Type().Key().Kind() != reflect.String {
			return
		}
		own := reflect.MakeMap(v.Type())
		for _, k := range v.MapKeys() {
			own.SetMapIndex(reflect.ValueOf(word(k.String())).Convert(v.Type().Key()),
				reflect.ValueOf(word(v.MapIndex(k).String())).Convert(v.Type().Elem()))
		}
		v.Set(own)
	}
}
