package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"zipstamp/internal/demo"
	"zipstamp/internal/view"
	"zipstamp/internal/view/help"
)

// demoStep is a command of the demo, and how it must end.
type demoStep struct {
	why    string
	args   []string
	status int
}

func demoSteps(all bool, host string) []demoStep {
	fetched := demoStep{
		help.DemoFetch,
		[]string{"fetch", "--plain-http", "--to", demo.Downloads, "--key", demo.Key, host + demo.XZ},
		statusGood,
	}
	stamp := func(card string) []string {
		return []string{"stamp", "--yes", "--receipt", card + ".receipt.json", demo.XZ, card}
	}
	page := []string{"receipts", "export", "liar.html", "liar.gauge.json"}
	if !all {
		return []demoStep{
			{help.DemoCheck, []string{"check", "--key", demo.Key, demo.XZ}, statusGood},
			fetched,
			{help.DemoPeek, []string{"peek", demo.XZ}, statusGood},
			{help.DemoStamp, stamp(demo.Good), statusGood},
			{
				help.DemoCounterfeit,
				[]string{"gauge", "spots", "--receipt", "liar.gauge.json", demo.Liar},
				statusGauge,
			},
			{help.DemoPage, page, statusGood},
		}
	}
	return []demoStep{
		{help.DemoCheck, []string{"check", "--key", demo.Key, demo.XZ}, statusGood},
		fetched,
		{help.DemoPeek, []string{"peek", demo.XZ}, statusGood},
		{help.DemoDamaged, []string{"check", filepath.Join(demo.Damaged, demo.XZ)}, statusImage},
		{help.DemoStamp, stamp(demo.Good), statusGood},
		// a place that is tried before could be the one that is stored wrong only once
		{help.DemoTired, append(stamp(demo.Tired), "--no-spots"), statusGood},
		{help.DemoLiar, stamp(demo.Liar), statusGauge},
		{help.DemoSpots, []string{"gauge", "spots", "--receipt", "liar.gauge.json", demo.Liar}, statusGauge},
		{help.DemoPage, page, statusGood},
		{
			help.DemoFiles,
			[]string{
				"blank", "--yes", "--label", "SALTBOOT", "--receipt", "files.receipt.json", "--with", demo.Files,
				demo.Good,
			},
			statusGood,
		},
		{
			help.DemoAll,
			[]string{"stamp", "--yes", "--receipt", ".", demo.XZ, demo.Good, demo.Tired, demo.Liar},
			statusGauge,
		},
	}
}

func (a *app) demo() *cobra.Command {
	var all bool
	cmd := a.command("demo", 0, 1, func(cmd *cobra.Command, args []string) error {
		if a.json {
			return &usageError{view.ErrDemoJSON}
		}
		folder, done, err := demoFolder(args)
		if err != nil {
			return err
		}
		defer done()
		return a.runDemo(cmd.Context(), folder, len(args) > 0, all)
	})
	cmd.Flags().BoolVar(&all, "whole", false, "")
	return cmd
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
		err = &usageError{view.NotEmpty(folder)}
	}
	return folder, func() {}, err
}

func (a *app) runDemo(ctx context.Context, folder string, keep, all bool) error {
	out := a.screen
	out.Say(help.DemoStart)
	out.Say(fmt.Sprintf(help.DemoMaking, folder))
	if err := demo.Make(folder); err != nil {
		return view.NoSample(err)
	}
	back, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(folder); err != nil {
		return err
	}
	defer func() { _ = os.Chdir(back) }() // the program ends soon, wherever it is
	hosted, stop := context.WithCancel(ctx)
	defer stop()
	host, err := demoHost(hosted, ".")
	if err != nil {
		return err
	}
	for i, step := range demoSteps(all, host) {
		out.Step(i+1, step.why, append([]string{"zipstamp"}, step.args...))
		status := run(ctx, step.args, a.version, a.streams, "zipstamp", new(leaving))
		if ctx.Err() != nil {
			return shown{context.Cause(ctx)}
		}
		if status != step.status {
			return view.DemoFailed(i+1, status, step.status)
		}
		out.StepStatus(status)
	}
	next := [][]string{{"cd", folder}}
	if !keep {
		next = [][]string{{"zipstamp", "demo", "tides"}, {"cd", "tides"}}
	}
	if all {
		next = append(next, [][]string{
			{"zipstamp", "keys", "add", demo.Key},
			{"zipstamp", "check", "."},
			{"zipstamp", "stamp", demo.Gzip, demo.Good},
			{"zipstamp", "stamp", "--yes", "--json", demo.XZ, demo.Good},
			{"zipstamp", "recheck", demo.Good, demo.XZ},
			{"zipstamp", "blank", "--yes", "--label", "TIDES", demo.Tired},
			{"zipstamp", "practice", "new", "mine.card", "--claimed", "128MB", "--gone-after", "20MB"},
		}...)
	} else {
		next = append(next, [][]string{
			{"zipstamp", "stamp", demo.XZ, demo.Good},
			{"zipstamp", "stamp", demo.XZ, demo.Tired},
			{"zipstamp", "check", "."},
			{"zipstamp", "demo", "--whole"},
		}...)
	}
	out.TryNext(next)
	return nil
}
