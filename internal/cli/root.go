// Package cli is the commands: it turns arguments and settings into options of the core, results into
// what is shown, and errors into exit statuses.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/card/alias"
	"zipstamp/internal/card/here"
	"zipstamp/internal/document"
	"zipstamp/internal/job"
	"zipstamp/internal/shell"
	"zipstamp/internal/view"
)

// app is what all commands share.
type app struct {
	finder  card.Finder
	version string
	streams view.Streams
	screen  *view.Screen
	words   []string // the command line as it was typed, for advice that repeats it
	json    bool
	printed bool // the JSON document has been printed
	started bool // arguments were understood, and the command runs
	past    job.Past
	left    *leaving
	names   []alias.Entry // that a person has given to cards
	named   bool          // they have been read

	unattended bool // nobody is asked, so a card is taken without a person's look
}

// gcPercent keeps the heap close to what is in use: the large buffers are not on it, and decoders leave their
// dictionaries behind. It costs no time that could be measured, and saves some 8 MiB (bench/).
const gcPercent = 50

// Main runs the command line args and returns the exit status.
func Main(args []string, version string) int {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	signal.Ignore(syscall.SIGPIPE) // nobody reading the progress is no reason to leave a card half written
	var left leaving
	ctx, stop := untilInterrupted(context.Background(), func() {
		fmt.Fprintln(os.Stderr, "\nzipstamp: ended at once. "+left.sentence())
		os.Exit(statusInterrupted)
	})
	defer stop()
	streams := view.Streams{
		In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Environ: os.Environ(), Here: here.Cards().Host.Local(),
	}
	shell.Use(streams.Here.Shell)
	return run(ctx, args, version, streams, os.Args[0], &left)
}

// leaving is in what state everything is left when the program is ended at once, as the command at work says. The zero
// value says that nothing was begun.
type leaving struct{ text atomic.Pointer[string] }

func (l *leaving) is(sentence string) { l.text.Store(&sentence) }

func (l *leaving) sentence() string {
	if text := l.text.Load(); text != nil {
		return *text
	}
	return view.UntouchedLeft
}

// untilInterrupted ends the context at the first signal, for an end in good order. At a second one, which may come from
// somebody who doesn't want to wait for that, it calls atOnce.
func untilInterrupted(parent context.Context, atOnce func()) (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(parent)
	ended := make(chan struct{})
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	go func() {
		for first := true; ; first = false {
			select {
			case <-signals:
				if !first {
					atOnce()
					return
				}
				cancel(view.ErrInterrupted)
			case <-ended:
				return
			}
		}
	}()
	return ctx, func() {
		signal.Stop(signals)
		close(ended)
		cancel(nil)
	}
}

// run is Main with its surroundings given. program is how the program was called.
func run(ctx context.Context, args []string, version string, streams view.Streams, program string, left *leaving) int {
	a := &app{
		finder: here.Cards(), version: version, streams: streams, screen: view.NewScreen(streams),
		words: append([]string{program}, args...), left: left,
	}
	defer a.screen.Close() // the one that is made when the options are read finds the terminals as this leaves them
	if a.version == "" {
		a.version = builtVersion()
	}
	a.finder.Known = a.known
	root := a.root()
	root.SetArgs(args)
	root.SetIn(streams.In)
	root.SetOut(streams.Out)
	root.SetErr(streams.Err)
	ran, err := root.ExecuteContextC(ctx)
	if err != nil && !a.started {
		err = &usageError{a.suggest(ran, err)}
		a.json = a.json || slices.Contains(args, "--json") // flags behind a wrong one are not read
	}
	err = a.suggestPath(err)
	status := statusOf(err)
	if a.json && !a.printed && err != nil {
		a.printJSON(failure{
			document.New(document.ErrorReport, status, view.ProblemSentence(err)), a.screen.NextStep(err, a.words),
		})
	}
	if err != nil && !isShown(err) {
		a.screen.Problem(err, a.words)
	}
	// who reads only the first lines has what they want
	if lost := a.screen.Lost(); lost != nil && err == nil && !errors.Is(lost, syscall.EPIPE) {
		a.screen.Problem(view.ResultLost(lost), a.words)
		status = statusUnexpected
	}
	return status
}

// failure is the JSON document of a command that came to no result.
type failure struct {
	document.Head
	Next string `json:"next,omitempty"` // what to do
}

// printJSON prints the one document of --json.
func (a *app) printJSON(doc any) {
	text, err := document.Encode(doc)
	if err != nil {
		panic(err) // all documents are plain structs
	}
	a.printed = true
	_, _ = a.screen.Out.Write(text) // that it could not be written, Lost says
}

// builtVersion is what the Go tool knows of a program that was not built for release.
func builtVersion() string {
	info, ok := debug.ReadBuildInfo()
	if !ok || info.Main.Version == "" {
		return "(unknown)"
	}
	return info.Main.Version
}

// Root is the tree of commands, for the pages of the manual.
func Root() *cobra.Command {
	a := &app{
		finder: here.Cards(), streams: view.Streams{Out: io.Discard, Err: io.Discard, Here: here.Cards().Host.Local()},
	}
	return a.root()
}

func (a *app) root() *cobra.Command {
	cmd := a.group("", a.check(), a.peek(), a.cards(), a.stamp(), a.recheck(), a.gauge(), a.pace(), a.blank(), a.save(),
		a.fetch(), a.systems(), a.shelf(),
		a.receipts(),
		a.keys(), a.practice(), a.demo(), a.showSettings(), a.versionCommand())
	cmd.Version, cmd.SilenceErrors, cmd.SilenceUsage = a.version, true, true
	cmd.PersistentPreRun = func(*cobra.Command, []string) {
		a.started = true
		a.screen = view.NewScreen(a.streams)
	}
	cmd.SetUsageTemplate(strings.ReplaceAll(cmd.UsageTemplate(), ".FlagUsages", ".FlagUsagesWrapped 80"))
	cmd.SetVersionTemplate("zipstamp {{.Version}}\n")
	flags := cmd.PersistentFlags()
	flags.BoolVar(&a.json, "json", false, "")
	flags.BoolVar(&a.streams.NoColor, "no-color", false, "")
	flags.BoolVar(&a.streams.Quiet, "quiet", false, "")
	flags.Var(choice{view.ProgressKinds, &a.streams.Progress}, "progress", "")
	cmd.InitDefaultCompletionCmd()
	for _, c := range cmd.Commands() {
		if c.Name() == "completion" {
			c.Args, c.RunE = a.onlyCommands, func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
		}
	}
	describeFlags(cmd, "")
	a.completions(cmd)
	return cmd
}
