package systems

import (
	"cmp"
	"slices"
	"strings"
)

// Offered is a system with the list that offers it.
//
// A name belongs to the signed list that had it first: another list's system of that name is only meant where the
// list is named too. Where no signed list has it, it is everybody's.
type Offered struct {
	System
	List  *Kept
	Owner *Kept // of the name, where that is another list; nil otherwise
}

// Offers are the systems of all lists, the newest first, and those of one day by name.
func Offers(lists []*Kept) (all []Offered) {
	owners := map[string]*Kept{}
	for _, l := range lists {
		if !l.Signed() {
			continue
		}
		for _, s := range l.Systems {
			name := plain(s.Name)
			if o := owners[name]; o == nil || l.precedes(o, name) {
				owners[name] = l
			}
		}
	}
	for _, l := range lists {
		for _, s := range l.Systems {
			one := Offered{System: s, List: l}
			if o := owners[plain(s.Name)]; o != l {
				one.Owner = o
			}
			all = append(all, one)
		}
	}
	slices.SortStableFunc(all, func(a, b Offered) int {
		return cmp.Or(b.Date.Compare(a.Date), strings.Compare(a.Name, b.Name))
	})
	return all
}

// precedes tells which of two signed lists with a name had it first.
func (k *Kept) precedes(other *Kept, name string) bool {
	if late := slices.Contains(k.Late, name); late != slices.Contains(other.Late, name) {
		return !late
	}
	return k.Added.Before(other.Added)
}

// Yield notes which names of the list belong to others, since those had them first. before is the list whose place it
// takes; nil if it takes none's.
func (k *Kept) Yield(before *Kept, lists []*Kept) {
	own, taken := map[string]bool{}, map[string]bool{}
	for _, l := range lists {
		for _, s := range l.Systems {
			name := plain(s.Name)
			if !l.Signed() || slices.Contains(l.Late, name) {
				continue
			}
			if before != nil && plain(l.Name) == plain(before.Name) {
				own[name] = true
			} else {
				taken[name] = true
			}
		}
	}
	k.Late = nil
	for _, s := range k.Systems {
		if name := plain(s.Name); taken[name] && !own[name] {
			k.Late = append(k.Late, name)
		}
	}
	slices.Sort(k.Late)
	k.Late = slices.Compact(k.Late)
}

// Word is how a person names the system.
func (o Offered) Word() string {
	name := strings.ReplaceAll(o.Name, " ", "-")
	if o.Owner != nil {
		return strings.ReplaceAll(o.List.Name, " ", "-") + "/" + name
	}
	return name
}

// Called tells whether a word stands for the system: its name, with or without its list before it, and with or without
// a version behind @.
func (o Offered) Called(word string) bool {
	rest, named := strings.CutPrefix(plain(word), plain(o.List.Name)+"/")
	return named && o.Is(rest) || o.Owner == nil && o.Is(word)
}
