package cli

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zipstamp/internal/card"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/image"
	"zipstamp/internal/near"
	"zipstamp/internal/shell"
	"zipstamp/internal/view"
	"zipstamp/internal/view/help"
)

// What somebody may have meant whose command line can't be run as it is. All of it is advice: nothing is run in place
// of what was typed.

// group makes a command that only holds others; alone it shows its help.
func (a *app) group(path string, below ...*cobra.Command) *cobra.Command {
	cmd := a.command(path, 0, 0, func(cmd *cobra.Command, _ []string) error { return cmd.Help() })
	cmd.Args = a.onlyCommands
	cmd.AddCommand(below...)
	return cmd
}

// onlyCommands says of a word that it is not one of the commands below cmd, and what it may stand for.
func (a *app) onlyCommands(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	word := args[0]
	path, _ := strings.CutPrefix(strings.TrimPrefix(cmd.CommandPath(), cmd.Root().Name()), " ")
	unknown := func(next string) error { return view.UnknownCommand(word, cmd.CommandPath(), next) }
	instead := func(command string) string { return a.corrected(word, strings.Fields(command)...) }
	if path == "gauge" && a.isCard(word) {
		return unknown(view.WhichGauge(shell.Quote(word)))
	}
	names := below(cmd)
	if found := near.Words(word, names); len(found) > 0 {
		return unknown(view.DidYouMean(mapped(found, instead)...))
	}
	meant, known := help.Brought(word)
	if !known {
		return unknown(view.Commands(cmd.CommandPath(), names))
	}
	command := meant.Command
	if meant.OfCard != "" && len(args) > 1 && a.isCard(args[1]) {
		command = meant.OfCard
	}
	switch {
	case command == "":
		return unknown(meant.Why)
	case path == "": // from the top, any command can be meant
		return unknown(view.DidYouMean(instead(command)))
	case strings.HasPrefix(command, path+" "):
		return unknown(view.DidYouMean(instead(strings.TrimPrefix(command, path+" "))))
	}
	return unknown(view.DidYouMean(shell.Command(slices.Concat([]string{cmd.Root().Name()}, strings.Fields(command),
		args[1:])...)))
}

// below are the names of the commands below one.
func below(cmd *cobra.Command) (names []string) {
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	return names
}

func mapped(words []string, to func(string) string) (out []string) {
	for _, w := range words {
		out = append(out, to(w))
	}
	return out
}

// corrected is the command line with other words in place of one.
func (a *app) corrected(word string, instead ...string) string {
	words := slices.Clone(a.words)
	if at := slices.Index(words[1:], word); at >= 0 {
		words = slices.Concat(words[:at+1], instead, words[at+2:])
	}
	return shell.Command(words...)
}

// isCard tells whether a word names a card that is here.
func (a *app) isCard(word string) bool {
	if namesCard(word) {
		return true
	}
	c, err := a.finder.Find(word)
	return err == nil && !c.IsUncertain()
}

// suggest adds to an error of the command line what may have been meant. cmd is the command that was found in it.
func (a *app) suggest(cmd *cobra.Command, err error) error {
	var flag *pflag.NotExistError
	var value *pflag.InvalidValueError
	switch {
	case errors.As(err, new(*view.Hint)): // it has advice already
		return err
	case errors.As(err, &flag):
		return a.suggestFlag(cmd, flag)
	case errors.As(err, &value):
		f, cause := value.GetFlag(), value.Unwrap()
		if err = view.WrongValue("--"+f.Name, value.GetValue(), f.Value.Type(), cause); err == nil {
			err = view.OfFlag("--"+f.Name, cause)
		}
	}
	return view.SeeHelp(err, cmd.CommandPath())
}

// suggestFlag finds the flag that was meant.
func (a *app) suggestFlag(cmd *cobra.Command, e *pflag.NotExistError) error {
	name, typed := e.GetSpecifiedName(), "--"+e.GetSpecifiedName()
	if short := e.GetSpecifiedShortnames(); short != "" {
		typed = "-" + short
		if len(short) > 1 { // -json, or a bundle, of which one is unknown
			name = short
		}
	}
	var names []string
	add := func(f *pflag.Flag) {
		if !f.Hidden {
			names = append(names, f.Name)
		}
	}
	cmd.Flags().VisitAll(add)
	cmd.InheritedFlags().VisitAll(add)
	slices.Sort(names)
	names = slices.Compact(names)
	found := near.Words(name, names)
	if meant := help.BroughtFlag(name); len(found) == 0 && slices.Contains(names, meant) {
		found = []string{meant}
	}
	if len(found) == 0 {
		return view.UnknownFlag(typed, cmd.CommandPath(), "")
	}
	return view.UnknownFlag(typed, cmd.CommandPath(), view.DidYouMean(mapped(found, func(flag string) string {
		for _, word := range a.words { // with its value, if that is a part of the word
			if rest, ok := strings.CutPrefix(word, typed); ok && (rest == "" || rest[0] == '=') {
				return a.corrected(word, "--"+flag+rest)
			}
		}
		return "--" + flag
	})...))
}

// suggestPath adds to an error of something that isn't there what is near it.
func (a *app) suggestPath(err error) error {
	var refused *card.RefusedError
	var missing *fs.PathError
	switch {
	case err == nil, errors.As(err, new(*view.Hint)):
		return err
	case errors.As(err, &refused) && refused.Why[0].Cause == guard.NotThere:
		if next := a.nearPath(refused.Card, true); next != "" {
			return &view.Hint{Err: err, Next: next}
		}
	case errors.As(err, &missing) && errors.Is(missing, fs.ErrNotExist) && slices.Contains(a.words, missing.Path):
		if next := a.nearPath(missing.Path, false); next != "" {
			return &view.Hint{Err: err, Next: next}
		}
	}
	return err
}

// nearPath says what may have been meant by a path at which nothing is.
func (a *app) nearPath(path string, wantsCard bool) string {
	if isURL(path) {
		return view.NoURL(path)
	}
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil && exists(filepath.Join(home, rest)) {
			return view.QuotedTilde(a.corrected(path, filepath.Join(home, rest)))
		}
		return view.QuotedTilde("")
	}
	found := nearFiles(path)
	if wantsCard {
		found = append(a.nearCards(path), found...)
	}
	return view.DidYouMean(mapped(found[:min(len(found), 3)], func(p string) string { return a.corrected(path, p) })...)
}

func isURL(text string) bool {
	scheme, rest, ok := strings.Cut(text, "://")
	return ok && scheme != "" && rest != "" && !strings.ContainsAny(scheme, `/\. `)
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// nearCards are the cards that may be meant by the name of a device that isn't here: sdz, where there is an sdb.
func (a *app) nearCards(path string) (found []string) {
	all, err := a.finder.All()
	if err != nil {
		return nil
	}
	var names, paths []string
	for _, c := range all {
		if len(c.Reasons(card.Consent{Asked: true})) == 0 {
			names, paths = append(names, c.Name), append(paths, c.Path)
		}
	}
	name := filepath.Base(path)
	looksLikeOne := !strings.Contains(name, ".") && (filepath.Dir(path) == "/dev" || filepath.Base(path) == path)
	for i := range names {
		if names[i] == name || looksLikeOne && len(names[i]) == len(name) && names[i][:2] == name[:min(len(name), 2)] {
			found = append(found, paths[i])
		}
	}
	return found
}

// How many files are looked at for one with a name near that of one that isn't there.
const (
	nearFolders = 64
	nearNames   = 4096
)

// nearFiles are the files that may be meant by a path at which nothing is: those in its folder, and in the folders
// there, with a name near its own.
func nearFiles(path string) (found []string) {
	folder, name := filepath.Dir(path), filepath.Base(path)
	for !exists(folder) && folder != filepath.Dir(folder) { // the folder is wrong, or a part of it
		folder = filepath.Dir(folder)
	}
	entries, err := readSome(folder)
	if err != nil {
		return nil
	}
	shown := func(parts ...string) string {
		if folder != "." {
			parts = slices.Insert(parts, 0, folder)
		}
		return filepath.Join(parts...)
	}
	var folders []string
	nearIn := func(entries []fs.DirEntry, parts ...string) (all []string) {
		var names []string
		for _, e := range entries {
			names = append(names, e.Name())
		}
		for _, n := range near.Words(name, names) {
			all = append(all, shown(append(parts, n)...))
		}
		return all
	}
	for _, e := range entries {
		if e.IsDir() && len(folders) < nearFolders && !strings.HasPrefix(e.Name(), ".") {
			folders = append(folders, e.Name())
		}
	}
	found = nearIn(entries)
	for _, f := range folders {
		below, err := readSome(shown(f))
		if err == nil {
			found = append(found, nearIn(below, f)...)
		}
	}
	return found
}

func readSome(folder string) ([]fs.DirEntry, error) {
	f, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	entries, err := f.ReadDir(nearNames)
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return entries, err
}

// swapped says that image and card stand in the wrong order, if they do: what is named as the image is a card, and what
// is named as the card is an image that is no card. order tells which comes first.
func (a *app) swapped(imagePath, cardPath, order string) error {
	if imagePath == image.Input || !a.isCard(imagePath) {
		return nil
	}
	f, err := image.Open(cardPath)
	if err != nil {
		return nil
	}
	defer f.Close()
	if c, err := f.Look(""); (err != nil && !is[*image.ChoiceError](err)) || f.Packing() == image.RawPacking &&
		!c.Recognised {
		return nil
	}
	if a.isCard(cardPath) {
		return nil
	}
	return &usageError{view.WrongOrder(order, imagePath, view.DidYouMean(a.exchanged(imagePath, cardPath)))}
}

// exchanged is the command line with two of its words exchanged.
func (a *app) exchanged(one, other string) string {
	words := slices.Clone(a.words)
	i, j := slices.Index(words, one), slices.Index(words, other)
	if i >= 0 && j >= 0 {
		words[i], words[j] = words[j], words[i]
	}
	return shell.Command(words...)
}
