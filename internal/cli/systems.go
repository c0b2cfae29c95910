package cli

import (
	"cmp"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/document"
	"zipstamp/internal/fetch"
	"zipstamp/internal/job"
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

// lists reads the lists that are kept, and names those that can't be used.
func (a *app) lists(who person) ([]*systems.Kept, error) {
	all, damaged, err := keptLists(who)
	for _, d := range damaged {
		a.screen.Say(view.ListDamaged(d))
	}
	return all, err
}

func keptLists(who person) (all []*systems.Kept, damaged []systems.Damaged, err error) {
	err = who.as(func() (err error) {
		all, damaged, err = systems.All(who.listsFolder().Path())
		return err
	})
	return all, damaged, err
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
	for _, o := range systems.Offers(lists) {
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
		if !job.Overwrites(doc) {
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
	all := systems.Offers(lists)
	fits := slices.DeleteFunc(slices.Clone(all), func(o systems.Offered) bool { return !o.Called(name) })
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
	r.system, r.release, r.list, r.unpacked = o.Name, o.Version, o.List.Name, o.Unpacked
	r.elsewhere = []shelf.Published{{
		Algorithm: o.Known().Algorithm.Plain(), Hex: o.Known().Hex(), From: o.List.Source(),
	}}
	switch {
	case o.List.Signed():
		r.signers = []trust.Signature{*o.List.Signature()}
	case o.List.Host != "" && o.List.Plain: // anybody on the way could have changed it
		r.elsewhere, r.secure = nil, false
	default:
		r.origin.Elsewhere = o.List.Host
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
	lists, _, _ := keptLists(who)
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
	lists, _, err := keptLists(who)
	if err != nil {
		return
	}
	for _, o := range systems.Offers(lists) {
		do(o)
	}
}

// systemWords are the names of systems, for completion.
func (a *app) systemWords(string) (out []string) {
	a.eachOffered(func(o systems.Offered) {
		if word := o.Word(); !slices.Contains(out, word) {
			out = append(out, word)
		}
	})
	return out
}
