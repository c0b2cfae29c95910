package cli

import (
	"errors"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/document"
	"zipstamp/internal/shelf"
	"zipstamp/internal/systems"
	"zipstamp/internal/view"
)

func (a *app) shelf() *cobra.Command {
	cmd := a.group("shelf", a.shelfClean())
	cmd.RunE = func(*cobra.Command, []string) error {
		r := record{app: a}
		if err := r.begin(nil); err != nil {
			return err
		}
		all, lines, err := a.onShelves(r.who, r.set)
		if err != nil {
			return err
		}
		place := r.who.short(a.shelfOf(r.who, r.set).Place.Path())
		a.showShelf(view.ShelfSentence(all, place), lines)
		return nil
	}
	return cmd
}

// shelfDocument is the JSON document of the shelf.
type shelfDocument struct {
	document.Head
	List []view.ShelfLine `json:"list"`
}

func (a *app) showShelf(sentence string, lines []view.ShelfLine) {
	if a.json {
		a.printJSON(shelfDocument{document.New(document.Shelf, statusGood, sentence), lines})
		return
	}
	a.screen.Shelf(sentence, lines)
}

// onShelves lists what is on the shelf. What is superseded is told by the lists of systems.
func (a *app) onShelves(who person, set settings) (all []shelf.Entry, lines []view.ShelfLine, err error) {
	if all, err = a.shelfOf(who, set).List(); err != nil {
		return nil, nil, err
	}
	lists, err := a.lists(who)
	if err != nil {
		return nil, nil, err
	}
	newest := map[string]systems.Offered{} // by list and name: no other list's system comes in the place of one
	for _, o := range slices.Backward(systems.Offers(lists)) {
		newest[o.List.Name+"/"+o.Name] = o
		if o.Owner == nil {
			newest["/"+o.Name] = o // for what is on the shelf since its list wasn't noted
		}
	}
	lines = []view.ShelfLine{}
	for _, e := range all {
		line := view.NewShelfLine(e)
		if e.Whole != nil {
			if o, ok := newest[e.Whole.List+"/"+e.Whole.System]; ok && o.Version != e.Whole.Release &&
				o.Known().Hex() != e.Whole.SHA256 {
				line.Superseded = o.Title()
			}
		}
		lines = append(lines, line)
	}
	return all, lines, nil
}

func (a *app) shelfClean() *cobra.Command {
	var keep practice.Size
	var yes bool
	cmd := a.command("shelf clean", 0, 0, func(cmd *cobra.Command, _ []string) error {
		r := record{app: a}
		if err := r.begin(nil); err != nil {
			return err
		}
		all, lines, err := a.onShelves(r.who, r.set)
		if err != nil {
			return err
		}
		if err := a.shelfOf(r.who, r.set).Sweep(); err != nil {
			return err
		}
		chosen := toClean(all, lines, cmd.Flags().Changed("keep"), int64(keep))
		if len(chosen) == 0 {
			a.showShelf(view.NothingToClean(all), []view.ShelfLine{})
			return nil
		}
		var gone []view.ShelfLine
		for _, i := range chosen {
			gone = append(gone, lines[i])
		}
		if !yes {
			if !a.screen.Asks() {
				return &usageError{view.ErrCleanAsks}
			}
			if ok, err := a.screen.ConfirmClean(cmd.Context(), gone); err != nil || !ok {
				if err == nil {
					a.screen.Say(view.NothingCleaned)
				}
				return err
			}
		}
		s := a.shelfOf(r.who, r.set)
		var freed int64
		removed := []view.ShelfLine{}
		for n, i := range chosen {
			err := s.Remove(all[i])
			if errors.Is(err, shelf.ErrBusy) {
				a.screen.Say(view.InUseOnShelf(gone[n].Name))
				continue
			}
			if err != nil {
				return err
			}
			freed += all[i].Bytes
			removed = append(removed, gone[n])
		}
		a.showShelf(view.Cleaned(len(removed), freed), removed)
		return nil
	})
	cmd.Flags().Var(textFlag{"SIZE", &keep}, "keep", "")
	cmd.Flags().BoolVar(&yes, "yes", false, "")
	return cmd
}

// oldPart is how old a part of a download is that nobody carries on.
const oldPart = 30 * 24 * time.Hour

// toClean are the downloads to remove: broken and superseded ones, parts that nobody carries on, and, to keep no more
// than so much, those that were not used for longest.
func toClean(all []shelf.Entry, lines []view.ShelfLine, bounded bool, keep int64) (chosen []int) {
	var left int64
	for i, e := range all {
		old := e.Whole == nil && time.Since(e.Begun) > oldPart
		if !e.Busy && (e.Broken != "" || lines[i].Superseded != "" || old) {
			chosen = append(chosen, i)
			continue
		}
		left += e.Bytes
	}
	if !bounded {
		return chosen
	}
	for i := len(all) - 1; i >= 0 && left > keep; i-- { // the latest come first
		if !all[i].Busy && !slices.Contains(chosen, i) {
			chosen, left = append(chosen, i), left-all[i].Bytes
		}
	}
	slices.Sort(chosen)
	return chosen
}
