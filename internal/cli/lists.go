package cli

import (
	"bytes"
	"context"
	"errors"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/check"
	"zipstamp/internal/document"
	"zipstamp/internal/fetch"
	"zipstamp/internal/state"
	"zipstamp/internal/systems"
	"zipstamp/internal/trust"
	"zipstamp/internal/view"
)

func (a *app) systemsAdd() *cobra.Command {
	var keys []string
	var plain, yes bool
	cmd := a.command("systems add", 1, 1, func(cmd *cobra.Command, args []string) error {
		l := &listing{record: record{app: a}, keys: keys, yes: yes}
		if err := l.begin(nil); err != nil {
			return err
		}
		return l.add(cmd.Context(), args[0], plain)
	})
	cmd.Flags().StringArrayVar(&keys, "key", nil, "")
	cmd.Flags().BoolVar(&plain, "plain-http", false, "")
	cmd.Flags().BoolVar(&yes, "yes", false, "")
	return cmd
}

// listing is a run that adds or refreshes lists.
type listing struct {
	record
	keys []string // files with the keys that a list must be signed with
	yes  bool
}

// listDocument is the JSON document of what was done with lists.
type listDocument struct {
	document.Head
	Lists []view.ListLine `json:"lists"`
}

func (l *listing) add(ctx context.Context, from string, plain bool) error {
	ring := check.Keys{}
	p := published{keys: l.keys}
	ring, err := p.ring(l.who)
	if err != nil {
		return err
	}
	k, err := l.get(ctx, systems.About{From: from, Plain: plain}, ring.Ring, len(l.keys) > 0)
	if err != nil {
		return err
	}
	lists, err := l.lists(l.who)
	if err != nil {
		return err
	}
	var follows *systems.Kept
	for _, before := range lists {
		if systems.NameOfFile(before.Name) != systems.NameOfFile(k.Name) {
			continue
		}
		if before.From != k.From && (!k.Signed() || before.Key != k.Key) {
			return &usageError{view.ListTaken(before)}
		}
		if err := mayFollow(k, before); err != nil {
			return err
		}
		k.Added = before.Added
		follows = before
	}
	k.Yield(follows, lists)
	if !k.Signed() && !l.yes {
		if !l.screen.Asks() {
			return &usageError{view.UnsignedList(k.Name)}
		}
		yes, err := l.screen.ConfirmList(ctx, k)
		if err != nil {
			return err
		}
		if !yes {
			return &usageError{view.ListNotTyped(k.Name)}
		}
	}
	if err := l.who.as(func() error { return systems.Keep(l.who.listsFolder(), k) }); err != nil {
		return err
	}
	if text := view.NamesOfOthers(k, append(slices.DeleteFunc(lists, func(o *systems.Kept) bool {
		return o == follows
	}), k)); text != "" {
		l.screen.Say(text)
	}
	return l.showLists(view.ListAdded(k), []view.ListLine{view.NewListLine(k, "added")}, nil)
}

// mayFollow refuses a list that may not take the place of the one before it.
func mayFollow(k, before *systems.Kept) error {
	if err := k.Follows(before); err != nil {
		return &imageError{view.ListRefused(before, err)}
	}
	if before.Signed() && k.Key != before.Key {
		return &imageError{view.ListRefused(before, view.ErrNotItsKey)}
	}
	return nil
}

func (l *listing) showLists(sentence string, lines []view.ListLine, failed error) error {
	if l.json {
		l.printJSON(listDocument{document.New(document.Lists, statusOf(failed), sentence), lines})
	} else {
		l.screen.Lists(sentence, lines)
	}
	if failed != nil {
		return shown{failed}
	}
	return nil
}

// get gets a list, and sees who has signed it: one of the keys, or nobody who is known.
func (l *listing) get(ctx context.Context, about systems.About, ring trust.Ring, must bool) (*systems.Kept, error) {
	k := &systems.Kept{About: about}
	var besides map[string][]byte
	var err error
	if fetch.IsURL(about.From) {
		besides, err = l.download(ctx, k)
	} else {
		besides, err = l.read(k)
	}
	if err != nil || besides == nil {
		return k, err
	}
	if k.List, err = systems.Read(k.Text); err != nil {
		return nil, &imageError{view.BadList(about.From, err)}
	}
	k.Key, k.Owner, k.Finger = "", "", ""
	unknown := ""
	for name, text := range besides {
		found, err := ring.DetachedText(about.From, bytes.NewReader(k.Text), name, text)
		if err != nil {
			continue
		}
		for _, s := range found {
			switch s.Status {
			case trust.Good:
				if k.Key, err = s.Key.Text(); err != nil {
					return nil, err
				}
				k.Owner, k.Finger = s.Key.Owner, s.Key.Fingerprint
			case trust.Unknown:
				unknown = s.KeyID
			default:
				return nil, &imageError{view.ListBadlySigned(k.Name, s)}
			}
		}
	}
	if must && !k.Signed() {
		return nil, &imageError{view.ListNotSigned(k.Name, unknown)}
	}
	if !k.Signed() && unknown != "" {
		l.screen.Say(view.ListSignedByUnknown(k.Name, unknown))
	}
	now := time.Now().UTC().Truncate(time.Second)
	k.Asked = now
	if k.Added.IsZero() {
		k.Added = now
	}
	return k, nil
}

// read reads a list from a file, and what may be its signatures.
func (l *listing) read(k *systems.Kept) (besides map[string][]byte, err error) {
	if k.From, err = filepath.Abs(k.From); err != nil {
		return nil, err
	}
	if k.Text, err = state.ReadFile(k.From, systems.MaxList); err != nil {
		return nil, openError(err)
	}
	besides = map[string][]byte{}
	for _, path := range trust.Beside(k.From) {
		if text, err := state.ReadFile(path, maxTyped); err == nil {
			besides[filepath.Base(path)] = text
		}
	}
	return besides, nil
}

// download gets a list from a host; without an answer if it is the one that is here.
func (l *listing) download(ctx context.Context, k *systems.Kept) (besides map[string][]byte, err error) {
	at, err := fetch.ParseAddress(k.From)
	if err != nil {
		return nil, err
	}
	client := l.listClient(l.set, k.From, k.Plain)
	defer client.Close()
	s, err := client.Small(ctx, at, systems.MaxList, k.Validators.Header())
	if err != nil || s.Current {
		return nil, err
	}
	k.Host, k.Text, k.Validators = at.Host(), s.Text, s.Validators
	besides = map[string][]byte{}
	for _, ending := range trust.Endings {
		name := at.Name() + ending
		sig, err := client.Small(ctx, at.Beside(name), maxTyped, nil)
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if err == nil && trust.IsSignature(sig.Text) {
			besides[name] = sig.Text
		}
	}
	return besides, nil
}

func (a *app) systemsRefresh() *cobra.Command {
	return a.command("systems refresh", 0, 1, func(cmd *cobra.Command, args []string) error {
		l := &listing{record: record{app: a}}
		if err := l.begin(nil); err != nil {
			return err
		}
		return l.refresh(cmd.Context(), args)
	})
}

// named are those of the lists with a name, or all.
func named(all []*systems.Kept, args []string) ([]*systems.Kept, error) {
	if len(args) == 0 {
		return all, nil
	}
	for _, k := range all {
		if systems.NameOfFile(k.Name) == systems.NameOfFile(args[0]) {
			return []*systems.Kept{k}, nil
		}
	}
	return nil, &usageError{view.NoList(args[0], all)}
}

func (l *listing) refresh(ctx context.Context, args []string) error {
	all, err := l.lists(l.who)
	if err != nil {
		return err
	}
	chosen, err := named(all, args)
	if err != nil {
		return err
	}
	lines := []view.ListLine{}
	var worst error
	for _, before := range chosen {
		k, what, err := l.refreshOne(ctx, before, all)
		line := view.ListLine{}
		if err == nil {
			line = view.NewListLine(k, what)
			all = append(slices.DeleteFunc(slices.Clone(all), func(o *systems.Kept) bool { return o == before }), k)
		}
		if errors.Is(err, view.ErrInterrupted) {
			return err
		}
		if err != nil {
			line = view.NewListLine(before, "stays as it was")
			line.Problem = view.ProblemSentence(err)
			worst = worse(worst, err)
		}
		lines = append(lines, line)
	}
	return l.showLists(view.ListsRefreshed(lines), lines, worst)
}

// refreshOne asks for a list again, and tells what became of it. all are those that are kept.
func (l *listing) refreshOne(
	ctx context.Context, before *systems.Kept, all []*systems.Kept,
) (k *systems.Kept, what string, err error) {
	var ring trust.Ring
	if before.Signed() {
		if ring, err = trust.ReadKeys([]byte(before.Key), ""); err != nil {
			return nil, "", err
		}
	}
	if k, err = l.get(ctx, before.About, ring, before.Signed()); err != nil {
		return nil, "", err
	}
	what = "new edition"
	if k.Text == nil || bytes.Equal(k.Text, before.Text) {
		what, k = "as it was", &systems.Kept{About: before.About, List: before.List, Text: before.Text}
		k.Asked = time.Now().UTC().Truncate(time.Second)
	} else if err := mayFollow(k, before); err != nil {
		return nil, "", err
	}
	k.Yield(before, all)
	return k, what, l.who.as(func() error { return systems.Keep(l.who.listsFolder(), k) })
}

func (a *app) systemsRemove() *cobra.Command {
	return a.command("systems remove", 1, 1, func(_ *cobra.Command, args []string) error {
		l := &listing{record: record{app: a}}
		if err := l.begin(nil); err != nil {
			return err
		}
		_, damaged, err := keptLists(l.who)
		if err != nil {
			return err
		}
		file, line := systems.NameOfFile(args[0]), view.ListLine{Name: args[0], What: "removed"}
		isOf := func(d systems.Damaged) bool { return d.Name == file || d.Name == args[0] }
		if i := slices.IndexFunc(damaged, isOf); i >= 0 {
			file = damaged[i].Name
		} else {
			all, err := l.lists(l.who)
			if err != nil {
				return err
			}
			found, err := named(all, args)
			if err != nil {
				return err
			}
			line = view.NewListLine(found[0], line.What)
		}
		err = l.who.as(func() error { return systems.Remove(l.who.listsFolder().Path(), file) })
		if err != nil {
			return err
		}
		return l.showLists(view.ListRemoved(line.Name), []view.ListLine{line}, nil)
	})
}

func (a *app) systemsLists() *cobra.Command {
	return a.command("systems lists", 0, 0, func(*cobra.Command, []string) error {
		l := &listing{record: record{app: a}}
		if err := l.begin(nil); err != nil {
			return err
		}
		all, err := l.lists(l.who)
		if err != nil {
			return err
		}
		lines := []view.ListLine{}
		for _, k := range all {
			lines = append(lines, view.NewListLine(k, ""))
		}
		return l.showLists(view.ListsSentence(len(all)), lines, nil)
	})
}
