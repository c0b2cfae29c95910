package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/document"
	"zipstamp/internal/fetch"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/shelf"
	"zipstamp/internal/state"
	"zipstamp/internal/systems"
	"zipstamp/internal/trust"
	"zipstamp/internal/view"
)

func (a *app) systems() *cobra.Command {
	cmd := a.group("systems", a.systemsAdd(), a.systemsRemove(), a.systemsRefresh(), a.systemsLists(), a.systemsMake())
	var board, search string
	cmd.RunE = func(*cobra.Command, []string) error { return a.listSystems(board, search) }
	cmd.Flags().StringVar(&board, "board", "", "")
	cmd.Flags().StringVar(&search, "search", "", "")
	return cmd
}

// listsFolder is where lists of systems are kept.
func (p person) listsFolder() state.Place { return p.stateFolder("lists") }

// lists reads the lists that are kept.
func (a *app) lists(who person) (all []*systems.Kept, err error) {
	err = who.as(func() (err error) {
		all, err = systems.All(who.listsFolder().Path())
		return err
	})
	return all, err
}

// offers are the systems of all lists, the newest first.
func offers(lists []*systems.Kept) (all []systems.Offered) {
	for _, l := range lists {
		for _, s := range l.Systems {
			all = append(all, systems.Offered{System: s, List: l})
		}
	}
	systems.Newest(all)
	return all
}

// systemsDocument is the JSON document of systems.
type systemsDocument struct {
	document.Head
	List []view.SystemLine `json:"list"`
	Old  []string          `json:"old,omitempty"` // lists that are past their time
}

func (a *app) listSystems(board, search string) error {
	r := record{app: a}
	if err := r.begin(nil); err != nil {
		return err
	}
	lists, err := a.lists(r.who)
	if err != nil {
		return err
	}
	doc := systemsDocument{List: []view.SystemLine{}}
	on := a.installed(r.who, r.set)
	shelved := a.shelved(r.who, r.set)
	for _, o := range offers(lists) {
		if board != "" && !o.IsFor(board) || search != "" && !o.Has(search) {
			continue
		}
		line := view.NewSystemLine(o)
		line.Cards = on[o.Known().Hex()]
		if d := o.Unpacks(); d != (digest.Digest{}) {
			line.Cards = append(line.Cards, on[d.Hex()]...)
		}
		line.Cards = view.DistinctCards(line.Cards)
		line.OnShelf = shelved[o.Known().Hex()]
		doc.List = append(doc.List, line)
	}
	for _, l := range lists {
		if l.Old(time.Now()) {
			doc.Old = append(doc.Old, l.Name)
		}
	}
	sentence := view.SystemsSentence(len(doc.List), len(lists), board != "" || search != "")
	if a.json {
		doc.Head = document.New(document.Systems, statusGood, sentence)
		a.printJSON(doc)
		return nil
	}
	a.screen.Systems(sentence, doc.List, doc.Old)
	return nil
}

// installed are the cards that were last stamped with an image, by the digests of that.
func (a *app) installed(who person, set settings) map[string][]view.OnCard {
	var history []receipt.Document
	_ = who.as(func() error {
		history = receipt.History(who.receiptsFolder(set).Path())
		return nil
	})
	on := map[string][]view.OnCard{}
	var seen []receipt.Document
	for _, doc := range history { // the latest first
		if !slices.Contains([]string{receipt.JobStamp, receipt.JobBlank, receipt.JobWhole}, doc.Job) {
			continue
		}
		if slices.ContainsFunc(seen, func(later receipt.Document) bool {
			return later.Like(doc.Card.Record) != card.Different
		}) {
			continue
		}
		seen = append(seen, doc)
		if !doc.Left() {
			continue
		}
		one := view.OnCard{
			Name:  cmp.Or(a.ownName(doc.Card.Record), doc.Card.OwnName, doc.Card.Serial, doc.Card.Name),
			Since: doc.Ended,
		}
		for _, hexes := range []map[string]string{doc.Image.Download, doc.Image.Image} {
			for _, hex := range hexes {
				on[hex] = append(on[hex], one)
			}
		}
	}
	return on
}

// shelved are the digests of what is on the shelf.
func (a *app) shelved(who person, set settings) map[string]bool {
	out := map[string]bool{}
	all, _ := a.shelfOf(who, set).List() // a shelf that can't be read has nothing
	for _, e := range all {
		if e.Path != "" && e.Broken == "" {
			out[e.Whole.SHA256] = true
		}
	}
	return out
}

// remoteSystem is the system of a list with a name.
func (a *app) remoteSystem(who person, set settings, name string, plain bool) (*remote, error) {
	lists, err := a.lists(who)
	if err != nil {
		return nil, err
	}
	all := offers(lists)
	fits := slices.DeleteFunc(slices.Clone(all), func(o systems.Offered) bool { return !o.Is(name) })
	if len(fits) == 0 {
		return nil, &usageError{view.NoSystem(name, all, len(lists))}
	}
	best := fits[0]
	for _, o := range fits[1:] {
		if o.Version != best.Version || o.Known() == best.Known() {
			continue
		}
		if o.Image == "" || o.Unpacks() != best.Unpacks() {
			return nil, &usageError{view.SystemTwice(best, o)}
		}
		if o.Size < best.Size { // the same image, packed better
			best = o
		}
	}
	return a.remoteOffered(who, set, best, plain)
}

// remoteOffered is a system of a list. Its addresses were typed by nobody, so that they may not lead into private
// networks.
func (a *app) remoteOffered(who person, set settings, o systems.Offered, plain bool) (*remote, error) {
	r := a.newRemote(who, set, fetch.Address{}, plain || o.List.Plain)
	r.client.Close()
	r.client = a.listClient(set, o.List.From, plain || o.List.Plain)
	r.mirrors = nil
	for i, text := range o.URLs {
		at, err := o.List.Address(text)
		if err != nil {
			return nil, err
		}
		r.mirrors = append(r.mirrors, fetch.Mirror{Address: at, Priority: i + 1})
	}
	r.want = fetch.Want{Size: o.Size, Digests: []digest.Digest{o.Known()}}
	r.system, r.release, r.unpacked = o.Name, o.Version, o.Unpacked
	source := o.List.Source()
	r.elsewhere = []shelf.Published{{
		Algorithm: o.Known().Algorithm.Plain(), Hex: o.Known().Hex(), From: source, Signed: o.List.Finger,
	}}
	switch {
	case o.List.Signed():
		r.signers = []trust.Signature{*o.List.Signature()}
		r.origin.List = source
	case o.List.Host != "" && !o.List.Plain:
		r.origin.Host = o.List.Host
	case o.List.Host != "": // anybody on the way could have changed it
		r.elsewhere, r.origin.List = nil, source
	default:
		r.origin.List = source
	}
	if o.List.Old(time.Now()) {
		a.screen.Say(view.ListOld(o.List.List))
	}
	if o.Successor != "" {
		a.screen.Say(view.HasSuccessor(o.System))
	}
	return r, nil
}

// listClient asks for lists, and for what they name.
func (a *app) listClient(set settings, from string, plain bool) *fetch.Client {
	o := fetch.Options{
		Agent: "zipstamp/" + cmp.Or(a.version, "0"), PlainHTTP: plain, Patience: set.patience, Tries: set.tries,
		Public: true,
	}
	if at, err := fetch.ParseAddress(from); err == nil && at.IsLoopback() { // a stand-in for a publisher
		o.But = at.HostPort()
	}
	return fetch.NewClient(o)
}

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
	for _, before := range lists {
		if systems.Folder(before.Name) != systems.Folder(k.Name) {
			continue
		}
		if before.From != k.From && before.Key != k.Key {
			return &usageError{view.ListTaken(before)}
		}
		if err := mayFollow(k, before); err != nil {
			return err
		}
		k.Added = before.Added
	}
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

// named are the lists with a name, or all.
func (l *listing) named(args []string) ([]*systems.Kept, error) {
	all, err := l.lists(l.who)
	if err != nil || len(args) == 0 {
		return all, err
	}
	for _, k := range all {
		if systems.Folder(k.Name) == systems.Folder(args[0]) {
			return []*systems.Kept{k}, nil
		}
	}
	return nil, &usageError{view.NoList(args[0], all)}
}

func (l *listing) refresh(ctx context.Context, args []string) error {
	all, err := l.named(args)
	if err != nil {
		return err
	}
	lines := []view.ListLine{}
	var worst error
	for _, before := range all {
		line, err := l.refreshOne(ctx, before)
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

func (l *listing) refreshOne(ctx context.Context, before *systems.Kept) (view.ListLine, error) {
	var ring trust.Ring
	if before.Signed() {
		keys, err := trust.ReadKeys([]byte(before.Key), "")
		if err != nil {
			return view.ListLine{}, err
		}
		ring = keys
	}
	k, err := l.get(ctx, before.About, ring, before.Signed())
	if err != nil {
		return view.ListLine{}, err
	}
	what := "new edition"
	if k.Text == nil || bytes.Equal(k.Text, before.Text) {
		what, k = "as it was", &systems.Kept{About: before.About, List: before.List, Text: before.Text}
		k.Asked = time.Now().UTC().Truncate(time.Second)
	} else if err := mayFollow(k, before); err != nil {
		return view.ListLine{}, err
	}
	err = l.who.as(func() error { return systems.Keep(l.who.listsFolder(), k) })
	return view.NewListLine(k, what), err
}

func (a *app) systemsRemove() *cobra.Command {
	return a.command("systems remove", 1, 1, func(_ *cobra.Command, args []string) error {
		l := &listing{record: record{app: a}}
		if err := l.begin(nil); err != nil {
			return err
		}
		found, err := l.named(args)
		if err != nil {
			return err
		}
		if err := l.who.as(func() error { return systems.Remove(l.who.listsFolder().Path(), found[0]) }); err != nil {
			return err
		}
		return l.showLists(view.ListRemoved(found[0]), []view.ListLine{view.NewListLine(found[0], "removed")}, nil)
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

func (a *app) systemsMake() *cobra.Command {
	m := systems.Making{}
	cmd := a.command("systems make", 1, 1, func(cmd *cobra.Command, args []string) error {
		m.Now = time.Now()
		return a.makeSystems(cmd.Context(), args[0], m)
	})
	cmd.Flags().StringVar(&m.Base, "base-url", "", "")
	cmd.Flags().StringVar(&m.Name, "name", "", "")
	return cmd
}

// makeSystems makes a list of the images in a folder.
func (a *app) makeSystems(ctx context.Context, folder string, m systems.Making) error {
	if m.Base != "" {
		if _, err := fetch.ParseAddress(m.Base); err != nil {
			return err
		}
	}
	if !isFolder(folder) {
		return &usageError{view.NeedsFolder(folder)}
	}
	path := filepath.Join(folder, systems.FileName)
	before, err := state.ReadFile(path, systems.MaxList)
	if errors.Is(err, fs.ErrNotExist) {
		before, err = nil, nil
	}
	if err != nil {
		return err
	}
	if before == nil && m.Name == "" {
		return &usageError{view.ErrNoListName}
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	var paths []string
	for _, e := range entries {
		if e.Type().IsRegular() && image.IsNamed(e.Name()) {
			paths = append(paths, filepath.Join(folder, e.Name()))
		}
	}
	if len(paths) == 0 {
		return &usageError{view.NoImageIn(folder)}
	}
	found, left, err := a.examineImages(ctx, paths)
	if err != nil {
		return err
	}
	made, err := m.Make(before, found)
	if err != nil {
		return &usageError{view.BadList(path, err)}
	}
	if err := replaceFile(path, made.Text); err != nil {
		return err
	}
	if a.json {
		a.printJSON(struct {
			document.Head
			Path    string   `json:"path"`
			Edition int64    `json:"edition"`
			Systems int      `json:"systems"`
			New     []string `json:"new"`
			Changed []string `json:"changed"`
			Left    []string `json:"left_out"`
			Stay    []string `json:"not_in_folder"`
		}{
			document.New(document.Made, statusGood, view.ListMade(path, made)), path, made.Edition, len(made.Systems),
			orNone(made.New), orNone(made.Other), orNone(left), orNone(made.Stay),
		})
		return nil
	}
	a.screen.ListMade(path, made, left)
	return nil
}

func orNone(list []string) []string { return append([]string{}, list...) }

// replaceFile puts a file in the place of another one, whole or not at all.
func replaceFile(path string, text []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err == nil {
		err = f.Chmod(0o644)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// examineImages finds out what a list says of images, of as many at once as there are cores. left are the files that
// can't be stamped, with the reasons.
func (a *app) examineImages(ctx context.Context, paths []string) (found []systems.Found, left []string, err error) {
	var m meter.Meter
	var total int64
	for _, path := range paths {
		if info, err := os.Stat(path); err == nil {
			total += info.Size()
		}
	}
	m.Begin(meter.Check, total)
	progress := a.screen.Follow(view.Followed{Meter: &m})
	results := make([]systems.Found, len(paths))
	problems := make([]error, len(paths))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, path := range paths {
		group.Go(func() error {
			results[i], problems[i] = examineImage(ctx, path, m.Part())
			return nil
		})
	}
	_ = group.Wait() // all errors are among the problems
	m.End()
	progress.Stop()
	for i, err := range problems {
		switch {
		case ctx.Err() != nil:
			return nil, nil, context.Cause(ctx)
		case err != nil:
			left = append(left, view.ProblemSentence(err))
		default:
			found = append(found, results[i])
		}
	}
	return found, left, nil
}

func examineImage(ctx context.Context, path string, m *meter.Meter) (s systems.Found, err error) {
	f, err := image.Open(path)
	if err != nil {
		return s, err
	}
	defer f.Close()
	f.Lanes = 1
	contents, err := f.Look("")
	if err != nil {
		return s, err
	}
	report, err := check.Run(ctx, f, "", check.Published{}, m)
	if err == nil {
		err = report.Damage
	}
	if err != nil {
		return s, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return s, err
	}
	w := f.Window(contents)
	defer w.Close()
	d, err := layout.Describe(w, report.Unpacked.Known())
	if err != nil {
		return s, err
	}
	p := view.Peeked{Path: path, Image: f, Contents: contents, Disk: d, Shortfall: f.Shortfall()}
	s = systems.Found{
		Name: filepath.Base(path), Size: f.Size, Digest: report.Download[0].String(),
		Smallest: view.SmallestCard(p.Needs()),
		Changed:  info.ModTime(),
	}
	if len(report.Image) > 0 {
		s.Unpacked, s.Image = report.Unpacked.Bytes, report.Image[0].String()
	}
	if d.Boot != nil {
		s.Boards = d.Boot.Boards
	}
	return s, nil
}

// boardWords are the boards that systems are for, for completion.
func (a *app) boardWords(string) (out []string) {
	a.eachOffered(func(o systems.Offered) {
		for _, b := range o.Boards {
			if !slices.Contains(out, b) {
				out = append(out, b)
			}
		}
	})
	return out
}

// listWords are the names of lists, for completion.
func (a *app) listWords(string) (out []string) {
	who, err := whoRuns()
	if err != nil {
		return nil
	}
	lists, _ := a.lists(who)
	for _, l := range lists {
		out = append(out, l.Name)
	}
	return out
}

// eachOffered goes through the systems of all lists; what can't be read has none.
func (a *app) eachOffered(do func(systems.Offered)) {
	who, err := whoRuns()
	if err != nil {
		return
	}
	lists, err := a.lists(who)
	if err != nil {
		return
	}
	for _, o := range offers(lists) {
		do(o)
	}
}

// systemWords are the names of systems, for completion.
func (a *app) systemWords(string) (out []string) {
	a.eachOffered(func(o systems.Offered) {
		word := strings.ReplaceAll(o.Name, " ", "-")
		if !slices.Contains(out, word) {
			out = append(out, word)
		}
	})
	return out
}
