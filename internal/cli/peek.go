package cli

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/document"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/view"
)

func (a *app) peek() *cobra.Command {
	var member string
	var most limit
	cmd := a.command("peek", 0, 1, func(cmd *cobra.Command, args []string) error {
		p, err := a.lookInto(cmd.Context(), args, member, most)
		if err != nil {
			return err
		}
		if a.json {
			a.printJSON(peekDocument(p))
			return nil
		}
		a.screen.Peek(p)
		return nil
	})
	memberFlag(cmd.Flags(), &member)
	most.flag(cmd.Flags())
	return cmd
}

// lookInto describes the image or card that is named, or the card that is chosen.
func (a *app) lookInto(ctx context.Context, args []string, member string, most limit) (view.Peeked, error) {
	if len(args) == 0 || namesCard(args[0]) || a.finder.Host.KeyOf(args[0]) != "" {
		c, err := a.pickOrChoose(ctx, args)
		if err != nil {
			return view.Peeked{}, err
		}
		return a.lookIntoCard(c)
	}
	path := args[0]
	if path != image.Input {
		c, err := a.cardToRead(path)
		if err != nil {
			return view.Peeked{}, err
		}
		if c != nil {
			return a.lookIntoCard(c)
		}
	}
	f, err := image.Open(path)
	if err != nil {
		return view.Peeked{}, openError(err)
	}
	defer f.Close()
	if err := bound(f, most, 0); err != nil {
		return view.Peeked{}, err
	}
	contents, err := f.Look(member)
	if err != nil {
		return view.Peeked{}, err
	}
	w := f.Window(contents)
	defer w.Close()
	p := view.Peeked{Path: path, Image: f, Contents: contents}
	p.Disk, err = layout.Describe(w, contents.Size.Known(), layout.SectorSize)
	p.Shortfall = f.Shortfall()
	p.Used = w.Used()
	return p, err
}

// namesCard tells whether a word names a card and can be no path.
func namesCard(word string) bool {
	if _, err := os.Lstat(word); err == nil {
		return false
	}
	return word == nextCard || strings.HasPrefix(word, "label:") || strings.HasPrefix(word, "serial:") ||
		strings.HasPrefix(word, "name:")
}

// cardToRead finds the card at a path; nil if what is there is to be read as an image: a plain file is both.
func (a *app) cardToRead(path string) (*card.Card, error) {
	info, err := os.Stat(path)
	if err != nil || info.IsDir() {
		return nil, nil // the image's errors say it
	}
	c, err := a.finder.Find(path)
	if err != nil && info.Mode()&fs.ModeDevice != 0 {
		return nil, err
	}
	if err != nil || c.IsUncertain() {
		return nil, nil
	}
	return c, nil
}

func (a *app) lookIntoCard(c *card.Card) (view.Peeked, error) {
	r, err := c.OpenToRead()
	if err != nil {
		return view.Peeked{}, err
	}
	defer r.Close()
	counted := &counting{r: r}
	d, err := layout.Describe(counted, c.Size, c.SectorSize)
	if errors.Is(err, fs.ErrPermission) {
		err = view.NoRightToRead(c.Given, err)
	}
	return view.Peeked{Path: c.Given, Card: c, Disk: d, Used: counted.n}, err
}

// counting counts the bytes that are read.
type counting struct {
	r io.ReaderAt
	n int64
}

func (c *counting) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.r.ReadAt(p, off)
	c.n += int64(n)
	return n, err
}

// The JSON document of peek.
type (
	peeked struct {
		document.Head
		Path      string       `json:"path"`
		Kind      layout.Kind  `json:"kind"`
		Packing   string       `json:"packing,omitempty"`
		Member    string       `json:"member,omitempty"`
		Size      int64        `json:"size"`
		Unpacked  *peekedSize  `json:"unpacked,omitempty"`
		FitsOn    int64        `json:"smallest_card,omitempty"`
		Table     string       `json:"table"`
		Sector    int64        `json:"table_sector,omitempty"`
		Parts     []peekedPart `json:"partitions"`
		Whole     *peekedFS    `json:"file_system,omitempty"`
		Boot      *peekedBoot  `json:"boot,omitempty"`
		Problems  []string     `json:"problems,omitempty"`
		BytesRead int64        `json:"bytes_read"`
	}
	peekedSize struct {
		Bytes     int64  `json:"bytes"`
		Certainty string `json:"certainty"` // exact, lower bound, unknown
	}
	peekedFS struct {
		Kind  string `json:"kind"`
		Label string `json:"label,omitempty"`
		Size  int64  `json:"size,omitempty"`
	}
	peekedPart struct {
		Number int       `json:"number"`
		Start  int64     `json:"start"`
		Length int64     `json:"length"`
		Type   string    `json:"type"`
		ID     string    `json:"type_id"`
		Name   string    `json:"name,omitempty"`
		Active bool      `json:"active,omitempty"`
		FS     *peekedFS `json:"file_system,omitempty"`
	}
	peekedBoot struct {
		Partition int               `json:"partition"` // 0 is the whole disk
		Files     int               `json:"files"`
		Bytes     int64             `json:"bytes"`
		Largest   []string          `json:"largest"`
		Kernels   map[string]string `json:"kernels"` // processors by path
		Boards    []string          `json:"boards"`
	}
)

func peekDocument(p view.Peeked) peeked {
	doc := peeked{
		Head: document.New(document.Peek, statusGood, view.PeekSentence(p)), Path: p.Path, Kind: p.Disk.Kind,
		Size: p.Size(), FitsOn: view.SmallestCard(p.Needs()), Table: string(p.Disk.Table.Scheme),
		Sector: p.Disk.Table.Sector, Parts: []peekedPart{}, Whole: peekFS(p.Disk.Whole), Problems: view.PeekProblems(p),
		BytesRead: p.Used,
	}
	if p.Image != nil {
		doc.Packing, doc.Member = p.Contents.Packing, p.Contents.Member
		doc.Unpacked = &peekedSize{p.Contents.Size.Bytes, p.Contents.Size.Certainty.String()}
	}
	for _, c := range p.Disk.Parts {
		doc.Parts = append(doc.Parts, peekedPart{
			c.Number, c.Start, c.Length, c.Type, c.ID, c.Name, c.Active, peekFS(c.FileSystem),
		})
	}
	if b := p.Disk.Boot; b != nil {
		doc.Boot = &peekedBoot{
			p.Disk.BootOn, b.Files, b.Bytes, append([]string{}, b.Largest...),
			map[string]string{},
			append([]string{}, b.Boards...),
		}
		for _, k := range b.Kernels {
			doc.Boot.Kernels[k.Path] = k.Processor
		}
	}
	return doc
}

func peekFS(fs layout.FileSystem) *peekedFS {
	if fs.Kind == "" {
		return nil
	}
	return &peekedFS{string(fs.Kind), fs.Label, fs.Size}
}
