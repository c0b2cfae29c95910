package cli

import (
	"encoding"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/document"
	"zipstamp/internal/view"
)

func (a *app) practice() *cobra.Command {
	return a.group("practice", a.practiceNew(), a.practiceServe())
}

func (a *app) practiceNew() *cobra.Command {
	var s practice.Spec
	var faults []string
	var beyond, reads, discards string
	var latency time.Duration
	cmd := a.command("practice new", 1, 1, func(_ *cobra.Command, args []string) error {
		s.Discards = practice.Discards(discards)
		s.Beyond, s.Reads, s.Latency = practice.Beyond(beyond), practice.Reads(reads), practice.Duration(latency)
		for _, text := range faults {
			f, err := parseFault(text)
			if err != nil {
				return &usageError{view.OfFlag(fmt.Sprintf("--fault %q", text), err)}
			}
			s.Faults = append(s.Faults, f)
		}
		return a.makePractice(args[0], s)
	})
	f := cmd.Flags()
	f.Var(textFlag{"SIZE", &s.Claimed}, "claimed", "")
	f.Var(textFlag{"SIZE", &s.Real}, "real", "")
	f.StringVar(&beyond, "beyond", "", "")
	f.StringVar(&reads, "reads", "", "")
	f.Var(textFlag{"SIZE", &s.Cache}, "cache", "")
	f.BoolVar(&s.WriteBack, "write-back", false, "")
	f.BoolVar(&s.Volatile, "volatile", false, "")
	f.Var(textFlag{"RATE", &s.ReadRate}, "read-rate", "")
	f.Var(textFlag{"RATE", &s.WriteRate}, "write-rate", "")
	f.DurationVar(&latency, "latency", 0, "")
	f.StringArrayVar(&faults, "fault", nil, "")
	f.StringVar(&discards, "discards", "", "")
	f.Var(textFlag{"RATE", &s.DiscardRate}, "discard-rate", "")
	f.BoolVar(&s.ReadOnly, "read-only", false, "")
	f.Var(textFlag{"SIZE", &s.ReadOnlyAfter}, "read-only-after", "")
	f.Var(textFlag{"SIZE", &s.GoneAfter}, "gone-after", "")
	f.Var(textFlag{"SIZE", &s.ResetsAfter}, "resets-after", "")
	f.Var(textFlag{"TIME", &s.GoneAfterTime}, "gone-after-time", "")
	f.Var(textFlag{"SIZE", &s.PowerCutAfter}, "power-cut-after", "")
	f.Var(textFlag{"SIZE", &s.TearAfter}, "tear-after", "")
	f.Var(textFlag{"SIZE", &s.FadeAfter}, "fade-after", "")
	f.Var(textFlag{"RATE", &s.FadeRate}, "fade-rate", "")
	f.Var(textFlag{"SIZE", &s.StallEvery}, "stall-every", "")
	f.Var(textFlag{"TIME", &s.Stall}, "stall", "")
	f.Var(textFlag{"SIZE", &s.ReaderLimit}, "reader-limit", "")
	f.Uint64Var(&s.Seed, "seed", 0, "")
	f.IntVar(&s.Sector, "sector", 512, "")
	f.StringVar(&s.Model, "model", "", "")
	f.StringVar(&s.Serial, "serial", "", "")
	f.StringVar(&s.Backing, "backing", "", "")
	return cmd
}

func (a *app) makePractice(path string, s practice.Spec) error {
	if s.Claimed == 0 {
		return &usageError{view.ErrNoClaimed}
	}
	if s.Backing == "" {
		s.Backing = filepath.Base(path) + ".data"
	}
	err := practice.Create(path, s)
	var exists *fs.PathError
	switch {
	case errors.As(err, &exists) && errors.Is(err, fs.ErrExist):
		return &usageError{view.TakenPath(exists.Path)}
	case errors.As(err, &exists):
		return err
	case err != nil:
		return &usageError{err}
	}
	if s, err = practice.Load(path); err != nil {
		return err
	}
	if a.json {
		a.printJSON(struct {
			document.Head
			Path    string `json:"path"`
			Backing string `json:"backing"`
			Claimed int64  `json:"claimed"`
			Real    int64  `json:"real"`
		}{
			document.New(document.Practice, statusGood, view.MadeSentence(path)), path, s.Backing, int64(s.Claimed),
			int64(s.Real),
		})
		return nil
	}
	a.screen.Made(path, int64(s.Claimed), int64(s.Real))
	return nil
}

// parseFault reads kind=KIND,sector=N,count=N,times=N,chance=P.
func parseFault(text string) (practice.Fault, error) {
	var f practice.Fault
	seen := map[string]bool{}
	for _, pair := range strings.Split(text, ",") {
		key, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
		if seen[key] {
			return f, view.FaultTwice(key)
		}
		seen[key] = true
		n, err := strconv.ParseInt(value, 10, 64)
		switch {
		case key == "kind":
			f.Kind, err = practice.FaultKind(value), nil
		case key == "chance":
			f.Chance, err = strconv.ParseFloat(value, 64)
		case key == "sector":
			f.Sector = n
		case key == "count":
			f.Count = n
		case key == "times" && int64(int(n)) == n:
			f.Times = int(n)
		default:
			return f, view.FaultKey(pair)
		}
		if err != nil {
			return f, view.FaultNumber(key, value)
		}
	}
	if !seen["sector"] {
		return f, view.ErrNoSector
	}
	return f, nil
}

// textValue reads and writes itself.
type textValue interface {
	encoding.TextUnmarshaler
	encoding.TextMarshaler
}

// textFlag is a flag whose value reads and writes itself.
type textFlag struct {
	kind  string
	value textValue
}

func (t textFlag) Set(s string) error { return t.value.UnmarshalText([]byte(s)) }

func (t textFlag) Type() string { return t.kind }

// String is empty for a value that has not been set, so that the help shows no default.
func (t textFlag) String() string {
	if t.value == nil {
		return ""
	}
	text, err := t.value.MarshalText()
	if err != nil || strings.HasPrefix(string(text), "0 ") || string(text) == "0s" {
		return ""
	}
	return string(text)
}
