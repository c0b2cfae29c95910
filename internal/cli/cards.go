package cli

import (
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/document"
	"zipstamp/internal/job"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

func (a *app) cards() *cobra.Command {
	var all, arrive bool
	cmd := a.group("cards", a.cardsName())
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if all && arrive {
			return &usageError{view.ErrAllOrArrive}
		}
		if arrive {
			return a.arrival(cmd.Context())
		}
		listed, err := a.survey()
		if err != nil {
			return err
		}
		if a.json {
			doc := cardsDocument(listed, all)
			if host, ok := a.finder.Host.(card.Reporter); ok && all {
				doc.Answers, err = host.Report()
			}
			a.printJSON(doc)
			return err
		}
		a.screen.Cards(listed, all)
		return nil
	}
	cmd.Flags().BoolVar(&all, "all", false, "")
	cmd.Flags().BoolVar(&arrive, "arrive", false, "")
	return cmd
}

// arrival waits for a card.
func (a *app) arrival(ctx context.Context) error {
	cards, err := a.awaitCards(ctx, 1, nil)
	if err != nil {
		return err
	}
	if a.json {
		a.printJSON(cardsDocument([]view.Listed{a.inspect(cards[0], nil)}, true))
		return nil
	}
	a.screen.Cards([]view.Listed{a.inspect(cards[0], nil)}, false)
	return nil
}

// survey looks at all disks that are worth showing: not the empty ones that only stand ready.
func (a *app) survey() ([]view.Listed, error) {
	found, err := a.finder.All()
	if err != nil {
		return nil, err
	}
	var all []view.Listed
	for _, c := range found {
		if c.Size == 0 && !(c.Disk.Bus == disks.USB || c.Disk.Bus == disks.SDSlot || c.Disk.Unfit != "") {
			continue
		}
		all = append(all, a.inspect(c, c.Reasons(card.Consent{Asked: true})))
	}
	return all, nil
}

// inspect finds out what is to be told of a card.
func (a *app) inspect(c *card.Card, reasons []guard.Reason) view.Listed {
	l := view.Listed{Card: c, Reasons: reasons}
	if c.Size == 0 || !isCard(reasons) {
		return l
	}
	if c.Disk != nil && c.Disk.SD != nil {
		l.Remarks = c.Disk.SD.Remarks(c.Size, time.Now())
	}
	id := ""
	if c.Disk != nil {
		id = c.Disk.ID
	}
	if d, err := c.Contents(); err == nil {
		l.Contents = &d
		id = d.Table.ID
	}
	now := c.Record()
	l.OwnName = a.ownName(now)
	now.DiskID = id
	l.Tested, l.TestedLike = a.history().Tested(now)
	l.Last, l.LastLike = receipt.Latest(a.history(), now, func(d receipt.Document) bool {
		// something else is on it now
		return d.Left() && (id == "" || d.Card.DiskID == "" || strings.EqualFold(id, d.Card.DiskID))
	})
	return l
}

// examine is inspect for a card that a person is asked about: the files on it are counted too, where that is quick.
func (a *app) examine(c *card.Card) view.Listed {
	l := a.inspect(c, nil)
	if l.Contents == nil {
		return l
	}
	r, err := c.OpenToRead()
	if err != nil {
		return l
	}
	defer r.Close()
	l.Census = map[int]layout.Census{}
	count := func(number int, start, length int64, kind layout.FSKind) {
		if n, ok := layout.Count(io.NewSectionReader(r, start, length), kind); ok {
			l.Census[number] = n
		}
	}
	if w := l.Contents.Whole; w.Kind != "" {
		count(0, 0, c.Size, w.Kind)
	}
	for _, p := range l.Contents.Parts {
		count(p.Number, p.Start, p.Length, p.Kind)
	}
	return l
}

// isCard tells whether all that is said against a disk may be said of a card: only those are read.
func isCard(reasons []guard.Reason) bool {
	return !slices.ContainsFunc(reasons, func(r guard.Reason) bool {
		return !guard.IsProtected(r) && !guard.IsUse(r)
	})
}

// history is the user's receipts, the latest first.
func (a *app) history() job.Past {
	if a.past == nil {
		a.past = job.Past{}
		who, err := whoRuns()
		if err != nil {
			return nil // then there are none that could be found
		}
		set, err := loadSettings(who, nil)
		if err != nil {
			set = settings{} // then the usual folder
		}
		_ = who.as(func() error { // without the right to read them, none can be found
			a.past = receipt.History(who.receiptsFolder(set).Path())
			return nil
		})
	}
	return a.past
}

// The JSON document of cards.
type (
	cardList struct {
		document.Head
		List    []listedCard `json:"list"`
		Answers any          `json:"answers,omitempty"` // of the system, where the host gives them
	}
	listedCard struct {
		Path       string         `json:"path"`
		Name       string         `json:"name"`
		OwnName    string         `json:"own_name,omitempty"`
		Size       int64          `json:"size"`
		Sector     int            `json:"sector"`
		Bus        string         `json:"bus"`
		Maker      string         `json:"maker,omitempty"`
		Model      string         `json:"model,omitempty"`
		Serial     string         `json:"serial,omitempty"`
		Reader     string         `json:"reader,omitempty"`
		Slot       int            `json:"slot,omitempty"`
		Slots      int            `json:"slots,omitempty"`
		Protected  bool           `json:"write_protected"`
		May        bool           `json:"may_be_written"`
		Reasons    []cardReason   `json:"reasons"`
		Registers  *cardRegisters `json:"registers,omitempty"`
		Remarks    []string       `json:"remarks,omitempty"`
		Table      string         `json:"table,omitempty"`
		DiskID     string         `json:"disk_id,omitempty"`
		Partitions []listedPart   `json:"partitions"`
		Mounts     []cardMount    `json:"mounts"`
		Last       *lastStamp     `json:"last_stamp,omitempty"`
		Tested     *lastTest      `json:"last_test,omitempty"`
	}
	cardReason struct {
		Cause string `json:"cause"`
		Text  string `json:"text"`
	}
	cardRegisters struct {
		Maker    int      `json:"maker"`
		OEM      string   `json:"oem"`
		Product  string   `json:"product"`
		Revision string   `json:"revision"`
		Serial   uint32   `json:"serial"`
		Made     string   `json:"made,omitempty"`
		Capacity int64    `json:"capacity,omitempty"`
		Family   string   `json:"family,omitempty"`
		Spec     string   `json:"specification,omitempty"`
		Marks    []string `json:"marks,omitempty"`
	}
	listedPart struct {
		Number     int       `json:"number"`
		Path       string    `json:"path"`
		Length     int64     `json:"length"`
		FileSystem *peekedFS `json:"file_system,omitempty"`
	}
	cardMount struct {
		Device string `json:"device"`
		Point  string `json:"point"`
	}
	lastStamp struct {
		Image string    `json:"image"`
		Ended time.Time `json:"ended"`
	}
	lastTest struct {
		Verdict string    `json:"verdict"`
		Holds   int64     `json:"holds"`
		Ended   time.Time `json:"ended"`
	}
)

// causeOf is the cause of a reason, as documents have it: all uses are one.
func causeOf(r guard.Reason) string {
	if guard.IsUse(r) && r.Cause != guard.Held {
		return "in use"
	}
	return string(r.Cause)
}

func cardsDocument(listed []view.Listed, all bool) cardList {
	doc := cardList{
		Head: document.New(document.Cards, statusGood, view.CardsSentence(listed)), List: []listedCard{},
	}
	for _, l := range listed {
		if !all && !l.IsCard() {
			continue
		}
		d := l.Card.Disk
		one := listedCard{
			Path: d.Path, Name: d.Name, OwnName: l.OwnName, Size: d.Size, Sector: d.Sector, Bus: string(d.Bus),
			Maker: d.Maker, Model: d.Model, Serial: d.Serial, Slot: d.Slot, Slots: d.Slots,
			Protected: d.ReadOnly && d.Size > 0, May: len(l.Reasons) == 0, Reasons: []cardReason{},
			Remarks: view.Remarks(l.Remarks), DiskID: d.ID, Partitions: []listedPart{}, Mounts: []cardMount{},
		}
		if d.USB != nil {
			one.Reader = d.USB.Name
		}
		for _, r := range l.Reasons {
			one.Reasons = append(one.Reasons, cardReason{causeOf(r), view.Reason(r)})
		}
		if s := d.SD; s != nil {
			one.Registers = &cardRegisters{
				int(s.CID.Maker), s.CID.OEM, s.CID.Product, s.CID.Revision, s.CID.Serial, s.CID.Made(), s.CSD.Size,
				s.CSD.Family, s.Spec, s.Marks,
			}
		}
		one.Table = string(d.Scheme)
		if l.Contents != nil {
			one.Table, one.DiskID = string(l.Contents.Table.Scheme), l.Contents.Table.ID
		}
		for _, p := range l.Parts() {
			one.Partitions = append(one.Partitions, listedPart{
				p.Number, p.Path, p.Size, peekFS(layout.FileSystem{Kind: p.Kind, Label: p.Label}),
			})
		}
		for _, m := range d.Mounts {
			one.Mounts = append(one.Mounts, cardMount{m.Source, m.Point})
		}
		if l.Last != nil {
			one.Last = &lastStamp{l.Last.Image.Path, l.Last.Ended}
		}
		if l.Tested != nil {
			one.Tested = &lastTest{string(l.Tested.Verdict), l.Tested.Gauge.Holds, l.Tested.Ended}
		}
		doc.List = append(doc.List, one)
	}
	return doc
}
