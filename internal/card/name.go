package card

import (
	"slices"
	"strings"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
)

// What cards are found by, as the Of of a reason.
const (
	ByLabel  = "label"
	BySerial = "serial number"
	ByName   = "name"
)

// findNamed finds the card to which a person has given a name.
func (f Finder) findNamed(given, name string) (*Card, error) {
	none := refuse(given, guard.Reason{Cause: guard.NoneNamed, Of: ByName, Name: name})
	if f.Known == nil {
		return nil, none
	}
	known, ok := f.Known(name)
	if !ok {
		return nil, none
	}
	if known.IsDisk() {
		return f.findBy(given, name, ByName, func(c *Card, _ string) bool { return c.Record().Like(known) == Same })
	}
	c, err := f.Find(known.Path)
	if err != nil || c.Record().Like(known) != Same {
		return nil, none
	}
	c.Given = given
	return c, nil
}

// findBy finds the one card that has what the user named it by. Loop devices are left out: they are named by their
// path.
func (f Finder) findBy(given, text, what string, has func(*Card, string) bool) (*Card, error) {
	if strings.TrimSpace(text) == "" {
		return nil, refuse(given, guard.Reason{Cause: guard.NamesNone, Of: what})
	}
	all, err := f.All()
	if err != nil {
		return nil, refuse(given, guard.Reason{Cause: guard.NoHost, Err: err})
	}
	var found []*Card
	for _, c := range all {
		if c.Disk.Bus != disks.Loop && c.Disk.Made == "" && c.Size > 0 && has(c, text) {
			found = append(found, c)
		}
	}
	switch len(found) {
	case 0:
		return nil, refuse(given, guard.Reason{Cause: guard.NoneNamed, Of: what, Name: text})
	case 1:
		found[0].Given = given
		return found[0], nil
	}
	var names []string
	for _, c := range found {
		names = append(names, c.Path)
	}
	return nil, refuse(given, guard.Reason{Cause: guard.Ambiguous, Of: what, Name: text, Names: names})
}

// hasLabel tells whether a file system or a partition of the card has a label, in capitals or not.
func hasLabel(c *Card, label string) bool {
	return slices.ContainsFunc(c.labels(), func(l string) bool { return strings.EqualFold(l, label) })
}

// labels are those of the card's file systems and partitions: as the system knows them, or, where it knows nothing, as
// they stand on the card.
func (c *Card) labels() []string {
	var all []string
	known := c.Disk.FS.Kind != ""
	add := func(labels ...string) {
		for _, l := range labels {
			if l != "" {
				all = append(all, l)
			}
		}
	}
	add(c.Disk.FS.Label)
	for _, p := range c.Disk.Parts {
		known = known || p.FS.Kind != ""
		add(p.FS.Label, p.FS.PartName)
	}
	if known {
		return all
	}
	if d, err := c.Contents(); err == nil {
		add(d.Whole.Label)
		for _, p := range d.Parts {
			add(p.Label, p.Name)
		}
	}
	return all
}

// minSerial is how many characters of a serial number make it out.
const minSerial = 3

// hasSerial tells whether the card's serial number is the one named, or has it as a part.
func hasSerial(c *Card, text string) bool {
	plain := func(s string) string { return strings.TrimPrefix(strings.ToLower(s), "0x") }
	own, text := plain(c.Serial), plain(text)
	return own != "" && (own == text || len(text) >= minSerial && strings.Contains(own, text))
}
