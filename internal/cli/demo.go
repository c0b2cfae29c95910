package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"zipstamp/internal/demo"
	"zipstamp/internal/view"
)

// demoStep is a command of the demo, and how it must end.
type demoStep struct {
	why    string
	args   []string
	status int
}

func demoSteps() []demoStep {
	stamp := func(card string) []string {
		return []string{"stamp", "--yes", "--receipt", card + ".receipt.json", demo.XZ, card}
	}
	return []demoStep{
		{"A download is held against the sums file that came with it, and that against the club's signature.", []string{"check", "--key", demo.Key, demo.XZ}, statusGood},
		{"What is in it, and for which boards? It is unpacked no further than it must be.", []string{"peek", demo.XZ}, statusGood},
		{"A download that was damaged on its way is refused.", []string{"check", filepath.Join(demo.Damaged, demo.XZ)}, statusImage},
		{"The image is stamped onto a good card: unpacked as a stream, written, and read back.", stamp(demo.Good), statusGood},
		{"A tired card stores a bit wrong; reading back finds it, and the block is written again.", stamp(demo.Tired), statusGood},
		{"This card claims 64 MB and holds 32 MB. A few places that are tried first give it away, before anything is written.", stamp(demo.Liar), statusGauge},
		{"How much does it really hold? Places all over it are tried, and what was there is put back.", []string{"gauge", "spots", "--receipt", "liar.gauge.json", demo.Liar}, statusGauge},
		{"All three at once, from one unpacking: each has its own fate and its own receipt.", []string{"stamp", "--yes", "--receipt", ".", demo.XZ, demo.Good, demo.Tired, demo.Liar}, statusGauge},
	}
}

func (a *app) demo() *cobra.Command {
	return a.command("demo", 0, 1, func(cmd *cobra.Command, args []string) error {
		if a.json {
			return &usageError{errors.New("demo shows what a person sees, and has no --json")}
		}
		folder, done, err := demoFolder(args)
		if err != nil {
			return err
		}
		defer done()
		return a.runDemo(cmd.Context(), folder, len(args) > 0)
	})
}

// demoFolder is the folder named, new or empty, or one that goes away when done is called.
func demoFolder(args []string) (folder string, done func(), err error) {
	if len(args) == 0 {
		folder, err = os.MkdirTemp("", "zipstamp-demo-")
		return folder, func() { os.RemoveAll(folder) }, err
	}
	folder = args[0]
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return "", nil, err
	}
	files, err := os.ReadDir(folder)
	if err == nil && len(files) > 0 {
		err = &usageError{&view.Hint{Err: fmt.Errorf("the folder %s is not empty", folder), Next: "name a new folder"}}
	}
	return folder, func() {}, err
}

func (a *app) runDemo(ctx context.Context, folder string, keep bool) error {
	out := a.screen
	out.Say("The Saltmarsh Watchers prepare cards with Saltmarsh OS for their Brindle boards.")
	out.Say("Making the sample data in %s ...", folder)
	if err := demo.Make(folder); err != nil {
		return fmt.Errorf("make the sample data: %w", err)
	}
	back, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(folder); err != nil {
		return err
	}
	defer func() { _ = os.Chdir(back) }() // the program ends soon, wherever it is
	for i, step := range demoSteps() {
		out.Step(i+1, step.why, append([]string{"zipstamp"}, step.args...))
		status := run(ctx, step.args, a.version, a.streams, "zipstamp", new(leaving))
		if ctx.Err() != nil {
			return shown{context.Cause(ctx)}
		}
		if status != step.status {
			return fmt.Errorf("step %d of the demo ended with status %d in place of %d", i+1, status, step.status)
		}
		out.StepStatus(status)
	}
	if keep {
		out.TryNext(folder, [][]string{
			{"zipstamp", "keys", "add", demo.Key},
			{"zipstamp", "check", "."},
			{"zipstamp", "stamp", demo.Gzip, demo.Good},
			{"zipstamp", "stamp", "--yes", "--json", demo.XZ, demo.Good},
			{"zipstamp", "recheck", demo.Good, demo.XZ},
			{"zipstamp", "receipts", "export", "liar.html", "liar.gauge.json"},
			{"zipstamp", "blank", "--yes", "--label", "TIDES", demo.Tired},
			{"zipstamp", "practice", "new", "mine.card", "--claimed", "128MB", "--gone-after", "20MB"},
		})
	}
	return nil
}
