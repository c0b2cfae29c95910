package cli

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/fetch"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/publisher"
	"zipstamp/internal/view"
)

// What a shell offers when the tabulator key is pressed. All of it is read only, and quick.

// completer gives the words that may stand at a place; a description may follow a tabulator.
type completer func(typed string) []string

// complete has a command complete its arguments: the last completer is for all that follow.
func complete(cmd *cobra.Command, arguments ...completer) *cobra.Command {
	cmd.ValidArgsFunction = func(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if len(arguments) == 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return offered(arguments[min(len(args), len(arguments)-1)], typed)
	}
	return cmd
}

// completeFlag has a flag of a command complete its value.
func completeFlag(cmd *cobra.Command, flag string, of completer) {
	err := cmd.RegisterFlagCompletionFunc(flag, func(_ *cobra.Command, _ []string, typed string) ([]string,
		cobra.ShellCompDirective,
	) {
		return offered(of, typed)
	})
	if err != nil {
		panic(err) // there is no such flag
	}
}

// offered are the words of a completer that begin as what was typed. One that ends with a slash is a folder, behind
// which more is to be typed.
func offered(of completer, typed string) ([]string, cobra.ShellCompDirective) {
	directive := cobra.ShellCompDirectiveNoFileComp
	var out []string
	for _, word := range of(typed) {
		if strings.HasPrefix(word, typed) {
			out = append(out, word)
		}
	}
	folders := slices.ContainsFunc(out, func(word string) bool { return strings.HasSuffix(word, "/") })
	if folders {
		directive |= cobra.ShellCompDirectiveNoSpace
	}
	return out, directive
}

// oneOf offers fixed words.
func oneOf(words ...string) completer { return func(string) []string { return words } }

func texts[T ~string](words ...T) (out []string) {
	for _, w := range words {
		out = append(out, string(w))
	}
	return out
}

// either offers the words of several.
func either(all ...completer) completer {
	return func(typed string) (out []string) {
		for _, c := range all {
			out = append(out, c(typed)...)
		}
		return out
	}
}

// files offers files that fit, and folders.
func files(fits func(name string) bool) completer {
	return func(typed string) (out []string) {
		folder, start := filepath.Split(typed)
		entries, err := readSome(cmp.Or(folder, "."))
		if err != nil && len(entries) == 0 {
			return nil
		}
		for _, e := range entries {
			name := e.Name()
			if !strings.HasPrefix(name, start) || strings.HasPrefix(name, ".") && !strings.HasPrefix(start, ".") {
				continue
			}
			info, err := os.Stat(filepath.Join(folder, name))
			switch {
			case err != nil:
			case info.IsDir():
				out = append(out, folder+name+"/")
			case fits(name):
				out = append(out, folder+name)
			}
		}
		return out
	}
}

func anyFile(string) bool { return true }

func metalinkNamed(name string) bool { return strings.HasSuffix(name, fetch.MetalinkEnding) }

// folders offers folders.
var folders = files(func(string) bool { return false })

// images offers files that are named as images are.
var images = files(image.IsNamed)

// cardWords offers the cards: their paths, labels, serial numbers and names, the files that are practice cards, and
// "next".
func (a *app) cardWords(typed string) (out []string) {
	all, err := a.finder.All()
	if err != nil {
		all = nil
	}
	for _, c := range all {
		if len(c.Reasons(card.Consent{Asked: true})) > 0 {
			continue
		}
		about := view.CardInBrief(c)
		out = append(out, c.Path+"\t"+about)
		if c.Serial != "" {
			out = append(out, "serial:"+c.Serial+"\t"+about)
		}
		for _, l := range labelsOf(c) {
			out = append(out, "label:"+l+"\t"+about)
		}
	}
	for _, e := range a.allNames() {
		out = append(out, "name:"+e.Name+"\t"+view.Bytes(e.Card.Size))
	}
	if strings.HasPrefix(nextCard, typed) {
		out = append(out, nextCard+"\t"+view.NextCard)
	}
	return append(out, files(practiceNamed)(typed)...)
}

// labelsOf are the labels that the system knows of a card's file systems.
func labelsOf(c *card.Card) (labels []string) {
	fs := []layout.FileSystem{{Label: c.Disk.FS.Label}}
	for _, p := range c.Disk.Parts {
		fs = append(fs, layout.FileSystem{Label: p.FS.Label})
	}
	for _, f := range fs {
		if f.Label != "" && !slices.Contains(labels, f.Label) {
			labels = append(labels, f.Label)
		}
	}
	return labels
}

// practiceNamed tells the names that practice cards have, as a rule.
func practiceNamed(name string) bool {
	return strings.HasSuffix(name, ".card") || strings.HasSuffix(name, ".practice")
}

// receiptNumbers offers the receipts by their numbers, the latest first.
func (a *app) receiptNumbers(string) (out []string) {
	const most = 30
	all := a.history()
	for i, doc := range all[:min(len(all), most)] {
		out = append(out, strconv.Itoa(i+1)+"\t"+view.ReceiptInBrief(doc))
	}
	return out
}

// days offers days as people name them.
var days = oneOf("today", "yesterday", "1 week ago", "1 month ago")

// completions has the commands and flags complete what they take.
func (a *app) completions(root *cobra.Command) {
	receiptFiles := files(func(name string) bool { return strings.HasSuffix(name, ".json") })
	arguments := map[string][]completer{
		"check":           {files(anyFile)},
		"peek":            {either(images, a.cardWords)},
		"stamp":           {either(images, a.systemWords), a.cardWords},
		"fetch":           {either(a.systemWords, files(metalinkNamed))},
		"systems add":     {files(anyFile)},
		"systems remove":  {a.listWords},
		"systems refresh": {a.listWords, oneOf()},
		"systems make":    {folders},
		"practice serve":  {folders},
		"recheck":         {a.cardWords, images},
		"gauge spots":     {a.cardWords},
		"gauge whole":     {a.cardWords},
		"gauge restore":   {a.cardWords},
		"gauge space":     {folders},
		"pace":            {a.cardWords},
		"blank":           {a.cardWords},
		"save":            {a.cardWords, files(anyFile)},
		"cards name":      {a.cardWords, oneOf()},
		"receipts show":   {either(a.receiptNumbers, receiptFiles), oneOf()},
		"receipts export": {files(anyFile), a.receiptNumbers},
		"keys add":        {files(anyFile)},
		"keys remove":     {a.keyIDs},
		"demo":            {folders},
	}
	values := map[string]completer{
		"progress": oneOf(view.ProgressKinds...), "since": days, "until": days, "sums": files(anyFile),
		"key": files(anyFile), "receipt": files(anyFile), "against": receiptFiles,
		"beyond": oneOf(texts(practice.Wrap, practice.Drop, practice.Lazy, practice.Oldest, practice.Ends)...),
		"reads":  oneOf(texts(practice.Zeros, practice.FF, practice.Noise, practice.Changing, practice.Last)...),
		"sector": oneOf("512", "4096"), "first": oneOf("8GB", "16GB", "32GB", "64GB"),
		"digest": oneOf("-\t" + view.FromInput), "with": files(anyFile), "file-system": oneOf(askFAT32, askExFAT),
		"to": folders, "board": a.boardWords, "etag": oneOf(publisher.ETags...), "keep": oneOf("1GB", "5GB", "20GB"),
	}
	var visit func(cmd *cobra.Command, path string)
	visit = func(cmd *cobra.Command, path string) {
		if path != "completion" && !strings.HasPrefix(path, "completion ") && !cmd.HasSubCommands() {
			complete(cmd, arguments[path]...)
		}
		for flag, of := range values {
			if cmd.LocalFlags().Lookup(flag) != nil && (cmd == root || cmd.InheritedFlags().Lookup(flag) == nil) {
				completeFlag(cmd, flag, of)
			}
		}
		for _, below := range cmd.Commands() {
			visit(below, strings.TrimSpace(path+" "+below.Name()))
		}
	}
	visit(root, "")
}

// keyIDs offers the keys that are kept.
func (a *app) keyIDs(string) (out []string) {
	kept, _, err := keptKeys()
	if err != nil {
		return nil
	}
	for _, k := range kept {
		out = append(out, fmt.Sprintf("%s\t%s", k.ID, k.Owner))
	}
	return out
}
