package cli

import (
	"math"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge"
	"zipstamp/internal/view"
	"zipstamp/internal/view/help"
)

// command makes the command with a path, such as "gauge spots", which takes from least to most words. Its help, and
// that of its flags, is in package help.
func (a *app) command(path string, least, most int, run func(*cobra.Command, []string) error) *cobra.Command {
	t := help.For(path, a.streams.Here.Example)
	return &cobra.Command{
		Use: t.Use, Short: t.Short, Long: t.Long, Example: t.Example, Args: takes(t, least, most),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := onlyFiles(cmd.Flags(), args); err != nil {
				return err
			}
			return run(cmd, args)
		},
	}
}

// onlyFiles refuses what stands for a device of Windows where a file can be named.
func onlyFiles(flags *pflag.FlagSet, args []string) (err error) {
	refuse := func(path string) {
		if err == nil && isDevice(path) {
			err = &usageError{view.DeviceName(path)}
		}
	}
	for _, path := range args {
		refuse(path)
	}
	flags.Visit(func(f *pflag.Flag) {
		switch f.Name {
		case "against", "backing", "receipt", "save-first", "with":
			refuse(f.Value.String())
		case "key", "sums":
			for _, path := range f.Value.(pflag.SliceValue).GetSlice() {
				refuse(path)
			}
		}
	})
	return err
}

// isDevice tells whether a path ends with a name that the system keeps for a device, as Windows does with CON and
// nul.img.
func isDevice(path string) bool {
	name := filepath.Base(path)
	return name != "." && name != ".." && !strings.ContainsAny(name, `:\/`) && !filepath.IsLocal(name)
}

// takes checks the number of words that a command takes.
func takes(t help.Text, least, most int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch n := len(args); {
		case n < least && t.Needs != "":
			return view.Needs(cmd.CommandPath(), t.Needs)
		case n > most && most == 0:
			return view.TakesNone(cmd.CommandPath(), args[0])
		case n > most:
			return view.TakesLess(cmd.CommandPath(), most, n)
		case n < least:
			return view.NeedsMore(cmd.CommandPath(), t.Use)
		}
		return nil
	}
}

// describeFlags gives the flags of a command, and of those below it, their help.
func describeFlags(cmd *cobra.Command, path string) {
	describe := func(f *pflag.Flag) {
		if f.Usage == "" {
			f.Usage = help.Flag(path, f.Name)
		}
	}
	cmd.LocalFlags().VisitAll(describe)
	cmd.PersistentFlags().VisitAll(describe)
	for _, below := range cmd.Commands() {
		name := below.Name()
		if path != "" {
			name = path + " " + name
		}
		describeFlags(below, name)
	}
}

// choice is a flag that takes one of some words.
type choice struct {
	words []string
	to    *string
}

func (c choice) Set(word string) error {
	if !slices.Contains(c.words, word) {
		return view.NoSuchValue(word, c.words, "")
	}
	*c.to = word
	return nil
}

func (c choice) Type() string { return "TEXT" }

func (c choice) String() string { return "" }

// Flags that several commands have.

func receiptFlag(f *pflag.FlagSet, to *string) { f.StringVar(to, "receipt", "", "") }

func memberFlag(f *pflag.FlagSet, to *string) { f.StringVar(to, "member", "", "") }

func noEjectFlag(f *pflag.FlagSet) { f.Bool("no-eject", false, "") }

// limit is how much an image may unpack to, where the user says so; the zero value says nothing.
type limit struct{ text string }

func (l *limit) flag(f *pflag.FlagSet) { f.StringVar(&l.text, "max-unpacked", "", "") }

// or is that limit, or another one where the user says nothing, bytes.
func (l *limit) or(otherwise int64) (int64, error) {
	if l.text == "" {
		return otherwise, nil
	}
	n, err := practice.ParseSize(l.text)
	if err == nil && n <= 0 {
		err = view.ErrNothing
	}
	if err != nil {
		return 0, &usageError{view.OfFlag("--max-unpacked "+l.text, err)}
	}
	return int64(n), nil
}

// first is how much is to be tested, where the user says so; the zero value is all.
type first struct{ text string }

func (f *first) flag(flags *pflag.FlagSet) { flags.StringVar(&f.text, "first", "", "") }

// bytes is that many, at least a block; 0 for all.
func (f *first) bytes() (int64, error) {
	if f.text == "" {
		return 0, nil
	}
	n, err := practice.ParseSize(f.text)
	switch {
	case err != nil:
		return 0, &usageError{view.OfFlag("--first", err)}
	case n < gauge.BlockSize || n > math.MaxInt64/2:
		return 0, &usageError{view.FirstTooSmall(f.text, gauge.BlockSize)}
	}
	return int64(n), nil
}
