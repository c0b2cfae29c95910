package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/publisher"
	"zipstamp/internal/view"
)

func (a *app) practiceServe() *cobra.Command {
	var f publisher.Faults
	var rate practice.Rate
	var cut, stall, wrong practice.Size
	var port int
	cmd := a.command("practice serve", 1, 1, func(cmd *cobra.Command, args []string) error {
		f.Rate, f.CutAfter, f.StallAfter, f.WrongPiece = int64(rate), int64(cut), int64(stall), int64(wrong)
		return a.serve(cmd.Context(), args[0], port, f)
	})
	flags := cmd.Flags()
	flags.IntVar(&port, "port", 0, "")
	flags.Var(textFlag{"RATE", &rate}, "rate", "")
	flags.Var(textFlag{"SIZE", &cut}, "cut-after", "")
	flags.Int64Var(&f.Cuts, "cuts", 0, "")
	flags.BoolVar(&f.NoRanges, "no-ranges", false, "")
	flags.Int64Var(&f.ChangeAfter, "change-after", 0, "")
	flags.Int64Var(&f.WrongLength, "wrong-length", 0, "")
	flags.BoolVar(&f.SignInPage, "sign-in-page", false, "")
	flags.Var(textFlag{"SIZE", &stall}, "stall", "")
	flags.Int64Var(&f.Stalls, "stalls", 0, "")
	flags.Var(choice{publisher.ETags, &f.ETag}, "etag", "")
	flags.IntVar(&f.Status, "status", 0, "")
	flags.Int64Var(&f.Statuses, "statuses", 0, "")
	flags.DurationVar(&f.RetryAfter, "retry-after", 0, "")
	flags.BoolVar(&f.Packed, "packed", false, "")
	flags.StringVar(&f.Redirect, "redirect", "", "")
	flags.Var(textFlag{"SIZE", &wrong}, "wrong-byte", "")
	return cmd
}

// serve serves a folder until it is interrupted.
func (a *app) serve(ctx context.Context, folder string, port int, f publisher.Faults) error {
	if !isFolder(folder) {
		return &usageError{view.NeedsFolder(folder)}
	}
	if f.Status != 0 && (f.Status < 300 || f.Status > 599) {
		return &usageError{view.OutOfRange("--status", f.Status, 300, 599)}
	}
	l, err := publisher.Listen(port)
	if err != nil {
		return view.PortTaken(port, err)
	}
	host := publisher.Host{Folder: folder, Faults: f, Told: func(s publisher.Served) {
		a.screen.Say(fmt.Sprintf("%s %s %s%s", time.Now().Format("15:04:05"), s.Method, s.Path, view.ServedText(s)))
	}}
	a.screen.Serving("http://"+l.Addr().String()+"/", folder)
	err = host.Serve(ctx, l)
	a.screen.Say(view.ServedSentence(host.Sent.Load()))
	return err
}

// demoHost serves the sample data of the demo, as long as ctx lasts.
func demoHost(ctx context.Context, folder string) (url string, err error) {
	l, err := publisher.Listen(0)
	if err != nil {
		return "", err
	}
	host := &publisher.Host{Folder: folder, Faults: publisher.Faults{CutAfter: demoCut, Cuts: 1}}
	go func() { _ = host.Serve(ctx, l) }() // it ends with ctx, at the latest with the program
	return "http://" + l.Addr().String() + "/", nil
}

// demoCut is where the demo's download breaks off, to be carried on: bytes.
const demoCut = 2_000_000
