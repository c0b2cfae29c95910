package view

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zipstamp/internal/fetch"
	"zipstamp/internal/near"
	"zipstamp/internal/shell"
	"zipstamp/internal/systems"
	"zipstamp/internal/trust"
)

// SystemLine is a system of a list, as it is shown and as the JSON document has it.
type SystemLine struct {
	Name      string   `json:"name"`
	Version   string   `json:"version"`
	Date      string   `json:"date"`
	Boards    []string `json:"boards"`
	Size      int64    `json:"size"`
	Unpacked  int64    `json:"unpacked,omitempty"`
	Smallest  int64    `json:"smallest_card,omitempty"`
	Notes     string   `json:"notes,omitempty"`
	Successor string   `json:"successor,omitempty"`
	Digest    string   `json:"digest"`
	List      string   `json:"list"`
	Word      string   `json:"word"`            // by which it is fetched
	Owner     string   `json:"owner,omitempty"` // the list whose its name is, if that is another one
	Signed    bool     `json:"signed"`
	OnShelf   bool     `json:"on_shelf"`
	Cards     []OnCard `json:"cards,omitempty"` // that it was last stamped on
}

// OnCard is a card with a system on it.
type OnCard struct {
	Name  string    `json:"name"`
	Since time.Time `json:"since"`
}

// NewSystemLine is the line of a system.
func NewSystemLine(o systems.Offered) SystemLine {
	line := SystemLine{
		Name: o.Name, Version: o.Version, Date: o.Date.Format("2006-01-02"), Boards: append([]string{}, o.Boards...),
		Size: o.Size, Unpacked: o.Unpacked, Smallest: o.Smallest, Notes: o.Notes, Successor: o.Successor,
		Digest: o.Digest, List: o.List.Name, Word: o.Word(), Signed: o.List.Signed(),
	}
	if o.Owner != nil {
		line.Owner = o.Owner.Name
	}
	return line
}

// DistinctCards takes out cards that are there twice.
func DistinctCards(all []OnCard) (out []OnCard) {
	for _, c := range all {
		if !slices.ContainsFunc(out, func(o OnCard) bool { return o == c }) {
			out = append(out, c)
		}
	}
	return out
}

// SystemsSentence says how many systems there are.
func SystemsSentence(n, lists int, chosen bool) string {
	switch {
	case lists == 0:
		return "You keep no list of systems. To keep one: zipstamp systems add URL --key FILE"
	case n == 0 && chosen:
		return fmt.Sprintf("No system in %s fits.", Count(lists, "list"))
	case chosen:
		return fmt.Sprintf("%s in %s, the newest first.", fits(n), Count(lists, "list"))
	}
	return fmt.Sprintf("%s in %s, the newest first.", Count(n, "system"), Count(lists, "list"))
}

func fits(n int) string {
	if n == 1 {
		return "1 system fits"
	}
	return Count(n, "system") + " fit"
}

// Systems lists systems.
func (v *Screen) Systems(sentence string, lines []SystemLine, old []string) {
	fmt.Fprintln(v.Out, fold(word(sentence), v.width, ""))
	for _, l := range lines {
		title := word(l.Name) + " " + word(l.Version)
		facts := []string{l.Date}
		if len(l.Boards) > 0 {
			facts = append(facts, "for "+listed(l.Boards, 6))
		}
		fmt.Fprintln(v.Out, "  "+strong.Render(title)+
			fold(", "+strings.Join(facts, ", "), v.width-2-len(title), "    "))
		facts = []string{Bytes(l.Size)}
		if l.Unpacked > 0 {
			facts = append(facts, "unpacks to "+Bytes(l.Unpacked))
		}
		if l.Smallest > 0 {
			facts = append(facts, fmt.Sprintf("for cards from %s on", roundCard(l.Smallest)))
		}
		if l.OnShelf {
			facts = append(facts, "on the shelf")
		}
		from := "in the list " + word(l.List)
		if !l.Signed {
			from += ", which is not signed"
		}
		v.under(strings.Join(append(facts, from), ", "))
		if l.Owner != "" {
			v.under(fmt.Sprintf("its name belongs to the list %s; this one is fetched as %s", word(l.Owner),
				word(l.Word)))
		}
		if l.Notes != "" {
			v.under(word(strings.Join(strings.Fields(l.Notes), " ")))
		}
		if l.Successor != "" {
			v.under("followed by " + word(l.Successor))
		}
		if len(l.Cards) > 0 {
			v.under("on " + cardsSince(l.Cards))
		}
	}
	for _, name := range old {
		fmt.Fprintln(v.Out,
			fold(fmt.Sprintf("The list %s is past its time: its publisher wanted it to be renewed. zipstamp "+
				"systems refresh", word(name)), v.width, ""))
	}
	if len(lines) > 0 {
		example := shell.Command("zipstamp", "stamp", lines[0].Word, "CARD")
		fmt.Fprintln(v.Out, fold("To stamp one: "+example, v.width, ""))
	}
}

func (v *Screen) under(text string) {
	fmt.Fprintln(v.Out, "    "+fold(text, v.width-4, "    "))
}

func roundCard(size int64) string {
	return strings.Replace(strings.Replace(Bytes(size), ".00 ", " ", 1), ".0 ", " ", 1)
}

// cardsSince says which cards have something, and since when.
func cardsSince(cards []OnCard) string {
	const most = 4
	var out []string
	for _, c := range cards[:min(len(cards), most)] {
		out = append(out, fmt.Sprintf("card %s since %s", word(c.Name), sinceText(c.Since, time.Now())))
	}
	if more := len(cards) - most; more > 0 {
		out = append(out, fmt.Sprintf("%d more", more))
	}
	return strings.Join(out, ", ")
}

// sinceText is a day as people say it: today, 3 November, May, or May 2025.
func sinceText(at, now time.Time) string {
	at, now = at.Local(), now.Local()
	switch days := now.Sub(at).Hours() / 24; {
	case at.YearDay() == now.YearDay() && at.Year() == now.Year():
		return "today"
	case days < 60:
		return at.Format("2 January")
	case days < 330:
		return at.Format("January")
	}
	return at.Format("January 2006")
}

// NoSystem says that no list has a system with a name.
func NoSystem(name string, all []systems.Offered, lists int) error {
	if lists == 0 {
		return hinted("to fetch by address: zipstamp fetch https://...; to keep a publisher's list: zipstamp systems "+
			"add URL "+
			"--key FILE", "there is no file %s, and you keep no list of systems", name)
	}
	var names []string
	for _, o := range all {
		if o.Owner != nil && o.Is(name) { // its owner has no such version
			return hinted("to fetch that one: "+shell.Command("zipstamp", "fetch", o.Word()+"@"+o.Version),
				"the list %s, to which the name belongs, has no %s; the list %s has it", o.Owner.Name, name,
				o.List.Name)
		}
		if n := o.Word(); !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	next := "zipstamp systems lists them"
	if found := near.Words(name, names); len(found) > 0 {
		next = DidYouMean(found...)
	}
	return hinted(next, "there is no file %s, and no system of that name in your lists", name)
}

// SystemTwice says that two lists have different files under one name and version.
func SystemTwice(a, b systems.Offered) error {
	if a.List == b.List {
		return hinted("fetch it by its address, and tell the publisher", "the list %s has different images for %s",
			a.List.Name, a.Title())
	}
	return hinted(fmt.Sprintf("find out which list is right, and remove the other: %s", shell.Command("zipstamp",
		"systems",
		"remove", b.List.Name)), "the lists %s and %s have different files for %s", a.List.Name, b.List.Name, a.Title())
}

// NamesOfOthers says which systems of a list have names that belong to others; empty if none has.
func NamesOfOthers(k *systems.Kept, lists []*systems.Kept) string {
	var names []string
	var one systems.Offered
	for _, o := range systems.Offers(lists) {
		if o.List == k && o.Owner != nil && !slices.Contains(names, o.Name) {
			names, one = append(names, o.Name), o
		}
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("The list %s had the name of %s first, with a signature. To fetch that of the list %s: %s",
		word(one.Owner.Name), listed(names, 6), word(k.Name), shell.Command("zipstamp", "fetch", one.Word()))
}

// ListOld says that a list is past its time.
func ListOld(l systems.List) string {
	return fmt.Sprintf("The list %s should have been renewed by %s, as its publisher says; there may be newer "+
		"systems. "+
		"zipstamp systems refresh", word(l.Name), l.Expires.UTC().Format("2 January 2006"))
}

// HasSuccessor says that a system has one.
func HasSuccessor(s systems.System) string {
	return fmt.Sprintf("%s is followed by %s, as its publisher says.", word(s.Title()), word(s.Successor))
}

// ListLine is a list, as it is shown and as the JSON document has it.
type ListLine struct {
	Name      string `json:"name"`
	From      string `json:"from"`
	Edition   int64  `json:"edition"`
	Systems   int    `json:"systems"`
	Published string `json:"published,omitempty"`
	Expires   string `json:"expires,omitempty"`
	SignedBy  string `json:"signed_by,omitempty"`
	Finger    string `json:"fingerprint,omitempty"`
	Old       bool   `json:"old,omitempty"`
	What      string `json:"what,omitempty"` // became of it
	Problem   string `json:"problem,omitempty"`
}

// NewListLine is the line of a list.
func NewListLine(k *systems.Kept, what string) ListLine {
	line := ListLine{
		Name: k.Name, From: fetch.BareURL(k.From), Edition: k.Edition, Systems: len(k.Systems), SignedBy: k.Owner,
		Finger: k.Finger, Old: k.Old(time.Now()), What: what,
	}
	if !k.Published.IsZero() {
		line.Published = k.Published.UTC().Format("2006-01-02")
	}
	if !k.Expires.IsZero() {
		line.Expires = k.Expires.UTC().Format("2006-01-02")
	}
	return line
}

// Lists shows lists.
func (v *Screen) Lists(sentence string, lines []ListLine) {
	fmt.Fprintln(v.Out, fold(word(sentence), v.width, ""))
	for _, l := range lines {
		fmt.Fprintln(v.Out, "  "+strong.Render(word(l.Name)))
		v.under("from " + word(l.From))
		facts := []string{fmt.Sprintf("edition %d", l.Edition)}
		if l.Published != "" {
			facts = append(facts, "of "+l.Published)
		}
		facts = append(facts, Count(l.Systems, "system"))
		if l.Expires != "" {
			facts = append(facts, "to be renewed by "+l.Expires)
		}
		if l.Old {
			facts = append(facts, "past its time")
		}
		v.under(strings.Join(facts, ", "))
		if l.Finger != "" {
			v.under(fmt.Sprintf("signed by %s", word(l.SignedBy)))
		} else {
			v.under("not signed")
		}
		if l.What != "" {
			v.under(l.What)
		}
		if l.Problem != "" {
			v.under(word(l.Problem))
		}
	}
}

// ListsSentence says how many lists are kept.
func ListsSentence(n int) string {
	if n == 0 {
		return SystemsSentence(0, 0, false)
	}
	return fmt.Sprintf("You keep %s of systems.", Count(n, "list"))
}

// ListAdded says that a list is kept.
func ListAdded(k *systems.Kept) string {
	if k.Signed() {
		return fmt.Sprintf("The list %s is kept: %s, signed by %s.", word(k.Name), Count(len(k.Systems), "system"),
			word(k.Owner))
	}
	return fmt.Sprintf("The list %s is kept: %s. It is not signed.", word(k.Name), Count(len(k.Systems), "system"))
}

// ListRemoved says that a list is no longer kept.
func ListRemoved(name string) string { return fmt.Sprintf("The list %s is removed.", word(name)) }

// ListDamaged says that a list that is kept can't be used.
func ListDamaged(d systems.Damaged) string {
	why := "is damaged"
	if !errors.Is(d.Err, systems.ErrDamaged) {
		why = "can't be read (" + ErrorText(d.Err) + ")"
	}
	return fmt.Sprintf("A kept list of systems, %s, %s, so its systems aren't known. Add it again with zipstamp "+
		"systems add FROM, or remove it with zipstamp systems remove %[1]s.", word(d.Name), why)
}

// ListsRefreshed sums up what became of lists that were asked for again.
func ListsRefreshed(lines []ListLine) string {
	changed, failed := 0, 0
	for _, l := range lines {
		switch {
		case l.Problem != "":
			failed++
		case l.What == "new edition":
			changed++
		}
	}
	text := fmt.Sprintf("%s asked for: %d new, %d as before", Count(len(lines), "list"), changed,
		len(lines)-changed-failed)
	if failed > 0 {
		text += fmt.Sprintf(", %d not renewed", failed)
	}
	return text + "."
}

// ConfirmList shows a list that is not signed, and asks for its name.
func (v *Screen) ConfirmList(ctx context.Context, k *systems.Kept) (bool, error) {
	fmt.Fprintln(v.Err,
		fold(fmt.Sprintf("The list %s is not signed by a key that you keep or named. Whoever can change what %s "+
			"sends can put any image into it.", word(k.Name), word(fetch.BareURL(k.From))), v.errWidth, ""))
	typed, err := v.ask(ctx, fmt.Sprintf("Type its name (%s) to use it all the same, anything else to leave it:",
		word(k.Name)))
	return strings.EqualFold(strings.TrimSpace(typed), k.Name), err
}

// UnsignedList says that there is nobody to ask whether a list that is not signed is to be used.
func UnsignedList(name string) error {
	return hinted("give the publisher's key: --key FILE; or --yes, to use it unsigned",
		"the list %s is not signed, and there is no terminal to ask on", name)
}

// ListNotTyped says that a list is not kept, since its name was not typed.
func ListNotTyped(name string) error {
	return fmt.Errorf("the name was not typed, so the list %s is not kept", name)
}

// ListTaken says that another list has the name.
func ListTaken(k *systems.Kept) error {
	return hinted("if it has moved, remove the old one first: "+shell.Command("zipstamp", "systems", "remove", k.Name),
		"you keep a list of the name %s already, from %s", k.Name, fetch.BareURL(k.From))
}

// ErrNotItsKey says that a list is signed by another key, or by none.
var ErrNotItsKey = errors.New("is not signed by the key that it was signed by before")

// ListRefused says why a list is not taken in the place of the one before.
func ListRefused(before *systems.Kept, err error) error {
	return hinted("the one that is kept stays; if the publisher means it: "+shell.Command("zipstamp", "systems",
		"remove",
		before.Name)+", and add it again", "the list %s %w", before.Name, err)
}

// BadList says why a text is no list.
func BadList(from string, err error) error {
	return fmt.Errorf("%s %w", fetch.BareURL(from), err)
}

// ListBadlySigned says that the signature of a list is wrong.
func ListBadlySigned(name string, s trust.Signature) error {
	return fmt.Errorf("the list %s must not be used: its signature is %s (%s)", name, s.Status, s.Why)
}

// ListNotSigned says that a list isn't signed by the key that it must be signed by.
func ListNotSigned(name, unknown string) error {
	if unknown != "" {
		return fmt.Errorf("the list %s is signed by key %s, and not by the one that it must be signed by", name,
			unknown)
	}
	return fmt.Errorf("the list %s is not signed by the key that it must be signed by", name)
}

// ListSignedByUnknown says that a list has a signature that counts for nothing.
func ListSignedByUnknown(name, key string) string {
	return fmt.Sprintf("The list %s is signed by key %s, which you don't keep, so that counts for nothing.", word(name),
		word(key))
}

// NoList says that no list has a name.
func NoList(name string, all []*systems.Kept) error {
	var names []string
	for _, k := range all {
		names = append(names, k.Name)
	}
	if len(names) == 0 {
		return errors.New("you keep no list of systems")
	}
	return fmt.Errorf("you keep no list of the name %s; there are %s", name, listed(names, 8))
}

// ErrNoListName says that a list needs a name.
var ErrNoListName = hinted("such as --name \"Saltmarsh Watchers\"", "--name is missing: what the list is called")

// ListMade says that a list was made.
func ListMade(path string, m systems.Made) string {
	return fmt.Sprintf("%s has %s now; it is edition %d.", FileName(path), Count(len(m.Systems), "system"), m.Edition)
}

// ListMade shows what was made of a folder.
func (v *Screen) ListMade(path string, m systems.Made, left []string) {
	fmt.Fprintln(v.Out, styled(good, fold(ListMade(path, m), v.width, "")))
	for _, part := range []struct {
		label string
		names []string
	}{{"new", m.New}, {"changed", m.Other}, {"left out", left}, {"not in the folder, and kept as it is", m.Stay}} {
		for _, name := range part.names {
			v.under(part.label + ": " + word(name))
		}
	}
	fmt.Fprintln(v.Out, fold("Look it through, and sign it: "+shell.Command("minisign", "-S", "-m", path)+"; or: "+
		shell.Command("gpg", "--detach-sign", "--armor", path), v.width, ""))
	fmt.Fprintln(v.Out, fold("Then put it, its signature and the images where people get them.", v.width, ""))
}
