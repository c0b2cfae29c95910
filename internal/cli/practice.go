package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/view"
)

func (a *app) practice() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "practice",
		Short: "Make practice cards: simulated cards, good and bad ones",
		Long: `A practice card is a simulated memory card in a file. All commands take it in
place of a real one, so everything can be tried without a card and without risk.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.practiceNew())
	return cmd
}

func (a *app) practiceNew() *cobra.Command {
	var s practice.Spec
	var faults []string
	var beyond, reads string
	var latency time.Duration
	cmd := &cobra.Command{
		Use:   "new FILE",
		Short: "Make a practice card",
		Long: `New makes FILE, which says how the card behaves, and a second file that keeps
what the card holds (FILE.data, unless --backing names another). docs/formats.md
describes the format; FILE may be edited by hand.

A fault is written as kind=KIND,sector=N,count=N,times=N,chance=P. KIND is read
(reading fails), write (writing fails), flip (a bit is stored wrong) or misread
(a bit is read wrong). It shows in count sectors (1) from sector on, for the
first times accesses after the card is put in (without times: always), each time
with the chance P from 0 to 1 (1).

Beyond the real size a card may wrap (addresses repeat), drop (writes are lost),
be lazy or oldest (any place works until so much has been written as is real;
then what comes is lost, or what was written first), or keep its ends only. What
was dropped reads as zeros, ff, noise, changing (noise that differs each time)
or last (what was written last).`,
		Example: `  zipstamp practice new good.card --claimed 64MB --write-rate 20MB/s
  zipstamp practice new liar.card --claimed 64MB --real 32MB --beyond wrap
  zipstamp practice new tired.card --claimed 64MB --fault kind=flip,sector=9`,
		Args: takes("the name of a new file", 1, 1),
		RunE: func(_ *cobra.Command, args []string) error {
			s.Beyond, s.Reads, s.Latency = practice.Beyond(beyond), practice.Reads(reads), practice.Duration(latency)
			for _, text := range faults {
				f, err := parseFault(text)
				if err != nil {
					return &usageError{fmt.Errorf("--fault %q: %w", text, err)}
				}
				s.Faults = append(s.Faults, f)
			}
			return a.makePractice(args[0], s)
		},
	}
	f := cmd.Flags()
	f.Var(textFlag{"SIZE", &s.Claimed}, "claimed", "the size that the card says it has (needed)")
	f.Var(textFlag{"SIZE", &s.Real}, "real", "the size that it really has (as claimed)")
	f.StringVar(&beyond, "beyond", "", "`WHAT` it does beyond the real size: wrap, drop, lazy, oldest or ends")
	f.StringVar(&reads, "reads", "", "`WHAT` dropped places read as: zeros, ff, noise, changing or last")
	f.Var(textFlag{"SIZE", &s.Cache}, "cache", "how much of what was written last it answers from its memory")
	f.BoolVar(&s.WriteBack, "write-back", false, "it stores what is written only when that memory needs the room")
	f.Var(textFlag{"RATE", &s.ReadRate}, "read-rate", "how fast it reads, such as 90MB/s")
	f.Var(textFlag{"RATE", &s.WriteRate}, "write-rate", "how fast it writes")
	f.DurationVar(&latency, "latency", 0, "the `TIME` that each access takes besides, such as 2ms")
	f.StringArrayVar(&faults, "fault", nil, "sectors that fail: `FAULT` as kind=flip,sector=8192,times=1 (may be repeated)")
	f.BoolVar(&s.ReadOnly, "read-only", false, "it is write-protected")
	f.Var(textFlag{"SIZE", &s.ReadOnlyAfter}, "read-only-after", "it becomes write-protected after so many bytes written")
	f.Var(textFlag{"SIZE", &s.GoneAfter}, "gone-after", "it is pulled out after so many bytes written and read")
	f.Var(textFlag{"SIZE", &s.ResetsAfter}, "resets-after", "its reader is reset, once, after so many bytes written and read")
	f.Var(textFlag{"TIME", &s.GoneAfterTime}, "gone-after-time", "it is pulled out after so long, such as 3s")
	f.Var(textFlag{"SIZE", &s.PowerCutAfter}, "power-cut-after", "the power is cut after so many bytes written")
	f.Var(textFlag{"SIZE", &s.TearAfter}, "tear-after", "the power is cut after so many bytes written, in the midst of a write")
	f.Var(textFlag{"SIZE", &s.FadeAfter}, "fade-after", "after so many bytes written it writes at --fade-rate")
	f.Var(textFlag{"RATE", &s.FadeRate}, "fade-rate", "how fast it writes then")
	f.Var(textFlag{"SIZE", &s.StallEvery}, "stall-every", "it stalls each time so many bytes have been written")
	f.Var(textFlag{"TIME", &s.Stall}, "stall", "how long it stalls, such as 2s")
	f.Var(textFlag{"SIZE", &s.ReaderLimit}, "reader-limit", "its reader fails beyond this place")
	f.Uint64Var(&s.Seed, "seed", 0, "a `NUMBER` by which chance is the same each time")
	f.IntVar(&s.Sector, "sector", 512, "its logical sector, `BYTES`: 512 or 4096")
	f.StringVar(&s.Model, "model", "", "the `NAME` of the model that it says it is")
	f.StringVar(&s.Serial, "serial", "", "the serial number that it says it has, `TEXT`")
	f.StringVar(&s.Backing, "backing", "", "the `NAME` of the file beside it that keeps what it holds (by default FILE.data)")
	return cmd
}

func (a *app) makePractice(path string, s practice.Spec) error {
	if s.Claimed == 0 {
		return &usageError{errors.New("--claimed is needed: the size that the card says it has, such as 64MB")}
	}
	if s.Backing == "" {
		s.Backing = filepath.Base(path) + ".data"
	}
	err := practice.Create(path, s)
	var exists *fs.PathError
	switch {
	case errors.As(err, &exists) && errors.Is(err, fs.ErrExist):
		return &usageError{&view.Hint{Err: fmt.Errorf("%s is there already", exists.Path), Next: "choose another name, or remove it first"}}
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
			Practice string `json:"practice"`
			Backing  string `json:"backing"`
			Claimed  int64  `json:"claimed"`
			Real     int64  `json:"real"`
		}{path, s.Backing, int64(s.Claimed), int64(s.Real)})
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
			return f, fmt.Errorf("%s stands twice", key)
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
			return f, fmt.Errorf("%q is not kind=, sector=, count=, times= or chance=", pair)
		}
		if err != nil {
			return f, fmt.Errorf("%s: %q is not a number", key, value)
		}
	}
	if !seen["sector"] {
		return f, errors.New("no sector= is given")
	}
	return f, nil
}

// textFlag is a flag whose value reads and writes itself.
type textFlag struct {
	kind  string
	value interface {
		UnmarshalText([]byte) error
		MarshalText() ([]byte, error)
	}
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
