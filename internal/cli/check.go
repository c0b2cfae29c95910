package cli

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/sync/errgroup"

	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/document"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/trust"
	"zipstamp/internal/view"
)

// published are the flags by which the user says what an image is compared with.
type published struct {
	digests []string
	sums    []string
	keys    []string
	member  string
	limit   limit
	remote  *remote     // from where it was, or is, fetched; nil for files
	apart   bool        // the files in an archive are wanted, and no image
	once    *check.Once // what the checks of several images share; nil: there is one
	kept    *check.Keys // likewise; nil before they were read
	typed   []byte      // what came in by the standard input for a digest; nil before it was read
}

// compareFlags are what a download is compared with.
func (p *published) compareFlags(f *pflag.FlagSet) {
	f.StringArrayVar(&p.digests, "digest", nil, "")
	f.StringArrayVar(&p.sums, "sums", nil, "")
	f.StringArrayVar(&p.keys, "key", nil, "")
}

// isGiven tells whether something of that was named.
func (p *published) isGiven() bool { return len(p.digests)+len(p.sums)+len(p.keys) > 0 }

func (p *published) flags(f *pflag.FlagSet) {
	p.compareFlags(f)
	memberFlag(f, &p.member)
	p.limit.flag(f)
}

// bound sets the limit that the user gave, or another.
func bound(f *image.File, l limit, otherwise int64) (err error) {
	f.Limit, err = l.or(otherwise)
	return err
}

// given reads the digests of the command line. What is nearly a digest may turn out to be one that was copied wrong.
func (p *published) given() (g check.Given, err error) {
	g.Sums = p.sums
	for i, text := range p.digests {
		if text == image.Input && p.typed == nil {
			if p.typed, err = readAll(os.Stdin); err != nil {
				return g, err
			}
		}
		if text == image.Input {
			p.digests[i], text = string(p.typed), string(p.typed)
		}
		one, err := digest.ReadGiven(text)
		var garbled *digest.GarbledError
		switch {
		case errors.As(err, &garbled):
			g.Garbled = append(g.Garbled, garbled)
		case err != nil:
			return g, notADigest(err)
		default:
			g.Texts = append(g.Texts, one)
		}
	}
	return g, nil
}

// maxTyped bounds what is read for a digest from the standard input, bytes.
const maxTyped = 1 << 20

func readAll(r io.Reader) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxTyped))
	return append([]byte{}, text...), err
}

func notADigest(err error) error {
	return &usageError{view.BadDigest(err)}
}

// ring reads the keys: those named, or else those that the user keeps.
func (p *published) ring(who person) (check.Keys, error) {
	if p.kept != nil {
		return *p.kept, nil
	}
	if len(p.keys) == 0 {
		var kept trust.Ring
		err := who.as(func() (err error) {
			kept, err = trust.Kept(who.keysFolder())
			return err
		})
		if err != nil {
			err = view.KeysUnread(err)
		}
		return check.Keys{Ring: kept.Distinct()}, err
	}
	keys := check.Keys{Required: true}
	for _, path := range p.keys {
		more, err := trust.ReadKeyFile(path)
		if err != nil {
			return keys, &usageError{err}
		}
		keys.Ring = append(keys.Ring, more...)
	}
	keys.Ring = keys.Ring.Distinct()
	return keys, nil
}

// find opens an image and collects what was published for it. The caller closes it.
func (p *published) find(path string, who person) (*image.File, check.Published, error) {
	if path == image.Input && slices.Contains(p.digests, image.Input) {
		return nil, check.Published{}, &usageError{view.ErrInputTwice}
	}
	given, err := p.given()
	if err != nil {
		return nil, check.Published{}, err
	}
	if p.remote != nil {
		if err := p.remote.given(&given); err != nil {
			return nil, check.Published{}, err
		}
	}
	given.Once = p.once
	keys, err := p.ring(who)
	if err != nil {
		return nil, check.Published{}, err
	}
	f, err := p.openImage(path)
	if err != nil {
		return nil, check.Published{}, openError(err)
	}
	if p.apart {
		f = f.ForItsFiles()
	}
	err = bound(f, p.limit, 0)
	var found check.Published
	if err == nil {
		found, err = check.Find(f, p.member, given, keys)
	}
	if err != nil {
		f.Close()
		return nil, found, openError(err)
	}
	return f, found, nil
}

// openImage opens an image; one that is fetched may still be on its way.
func (p *published) openImage(path string) (*image.File, error) {
	if p.remote != nil && p.remote.arrives != nil {
		return p.remote.arrives()
	}
	return image.Open(path)
}

// openError makes a wrong name a matter of usage.
func openError(err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrInvalid) {
		return &usageError{err}
	}
	return err
}

func (a *app) check() *cobra.Command {
	var p published
	var mustMatch bool
	cmd := a.command("check", 1, math.MaxInt, func(cmd *cobra.Command, images []string) error {
		who, err := whoRuns()
		if err != nil {
			return err
		}
		c := checking{app: a, published: &p, who: who, mustMatch: mustMatch}
		if len(p.digests) == 0 {
			named, sums := splitSums(images)
			switch {
			case len(sums) > 0 && len(named) > 0:
				images, p.sums = named, append(p.sums, sums...)
			case len(sums) > 0 && len(p.sums) == 0:
				if images, c.sumsOf, c.missing, err = imagesOf(sums); err != nil {
					return err
				}
			}
		}
		paths, err := imagesIn(images)
		if err != nil {
			return err
		}
		if len(paths) > 1 && len(p.digests) > 0 {
			return &usageError{view.ErrOneDigest}
		}
		if len(images) == 1 && len(paths) == 1 && paths[0] == images[0] {
			return c.one(cmd.Context(), paths[0])
		}
		return c.all(cmd.Context(), paths)
	})
	p.flags(cmd.Flags())
	cmd.Flags().BoolVar(&mustMatch, "must-match", false, "")
	return cmd
}

// imagesIn puts in the place of each folder the images that are in and below it.
func imagesIn(named []string) ([]string, error) {
	var paths []string
	for _, name := range named {
		if info, err := os.Stat(name); err != nil || !info.IsDir() {
			paths = append(paths, name)
			continue
		}
		before := len(paths)
		err := filepath.WalkDir(name, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case d.IsDir() && path != name && strings.HasPrefix(d.Name(), "."):
				return fs.SkipDir
			case d.Type().IsRegular() && image.IsNamed(d.Name()):
				paths = append(paths, path)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		if len(paths) == before {
			return nil, &usageError{view.NoImageIn(name)}
		}
	}
	return paths, nil
}

// checkDocument is the JSON document of check.
type checkDocument struct {
	document.Head
	Images []checkedImage `json:"images"`
}

// checkedImage is an image in it.
type checkedImage struct {
	Path     string `json:"path"`
	Sentence string `json:"sentence"`
	// as published, not as published, no whole image, nothing published, error
	Outcome    string              `json:"outcome"`
	Size       int64               `json:"size,omitempty"`
	Packing    string              `json:"packing,omitempty"`
	Member     string              `json:"member,omitempty"`
	Unpacked   int64               `json:"unpacked,omitempty"`
	Download   map[string]string   `json:"download_digests,omitempty"`
	Image      map[string]string   `json:"image_digests,omitempty"`
	Published  []receipt.Published `json:"published,omitempty"`
	From       string              `json:"unpacked_from,omitempty"` // a packed file that it was compared with
	Near       []receipt.Published `json:"near,omitempty"`          // digests without a name beside it, which differ
	NotHere    []string            `json:"not_here,omitempty"`      // packed files whose digests are published
	Signatures []receipt.Signature `json:"signatures,omitempty"`
	Problems   []string            `json:"problems,omitempty"`
}

// checking is a run of check.
type checking struct {
	*app
	*published
	who       person
	mustMatch bool
	many      bool // other images are checked at the same time

	sumsOf  map[string][]string // files of digests by image, where only these were named
	missing []string            // files that these name, and that are not here
}

// checked is what became of an image.
type checked struct {
	path   string
	report check.Report
	err    error // of looking, not of what was found
}

// verdict is the error that the image ends with.
func (c checking) verdict(r checked) error {
	switch outcome := r.report.Outcome(); {
	case r.err != nil:
		return r.err
	case outcome == check.Mismatched, outcome == check.Broken, outcome == check.NothingPublished && c.mustMatch:
		return errNotPublished
	}
	return nil
}

// one checks a single image, and shows all that is known of it.
func (c checking) one(ctx context.Context, path string) error {
	var m meter.Meter
	progress := c.screen.Follow(view.Followed{Meter: &m})
	r := c.look(ctx, path, &m)
	m.End()
	progress.Stop()
	err := c.verdict(r)
	switch {
	case errors.Is(err, view.ErrInterrupted):
		return err
	case c.json:
		c.printJSON(checkDocument{
			document.New(document.Check, statusOf(err), r.document().Sentence), []checkedImage{r.document()},
		})
	case r.err != nil:
		return err
	default:
		c.screen.Check(r.report)
		c.sayMissing()
	}
	if err != nil {
		return shown{err}
	}
	return nil
}

// sayMissing says which of the files that were to be checked are not here.
func (c checking) sayMissing() {
	if len(c.missing) > 0 {
		c.screen.Say(view.NotHere(c.missing))
	}
}

// all checks many images, as many at once as there are cores, and shows a line for each, in their order.
func (c checking) all(ctx context.Context, paths []string) error {
	var total int64
	for _, path := range paths {
		if info, err := os.Stat(path); err == nil {
			total += info.Size()
		}
	}
	keys, err := c.ring(c.who)
	if err != nil {
		return err
	}
	c.kept, c.once = &keys, &check.Once{}
	var m meter.Meter
	m.Begin(meter.Check, total)
	c.many = true
	progress := c.screen.Follow(view.Followed{Meter: &m})
	results := make([]checked, len(paths))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, path := range paths {
		group.Go(func() error {
			results[i] = c.look(ctx, path, m.Part())
			return nil
		})
	}
	_ = group.Wait() // all errors are among the results
	m.End()
	progress.Stop()
	doc := checkDocument{}
	var worst error
	right, wrong := 0, 0
	for _, r := range results {
		err := c.verdict(r)
		if errors.Is(err, view.ErrInterrupted) {
			return err
		}
		switch {
		case err != nil:
			wrong++
		case r.report.Outcome() == check.Matched:
			right++
		}
		if err != nil {
			worst = worse(worst, shown{err})
		}
		doc.Images = append(doc.Images, r.document())
		if !c.json {
			c.screen.CheckLine(r.path, r.report, r.err)
		}
	}
	sentence := view.SummarySentence(len(paths), right, wrong)
	if c.json {
		doc.Head = document.New(document.Check, statusOf(worst), sentence)
		c.printJSON(doc)
	} else {
		c.screen.Summary(sentence, wrong == 0)
		c.sayMissing()
	}
	return worst
}

// look checks an image.
func (c checking) look(ctx context.Context, path string, m *meter.Meter) checked {
	p := *c.published
	if of := c.sumsOf[path]; of != nil {
		p.sums = of
	}
	f, found, err := p.find(path, c.who)
	if err != nil {
		return checked{path: path, err: err}
	}
	defer f.Close()
	if c.many {
		f.Lanes = 1 // each core has an image of its own
	}
	if _, err := f.Look(c.member); is[*image.ChoiceError](err) && c.member != "" {
		return checked{path: path, err: err}
	}
	r, err := check.Run(ctx, f, c.member, found, m)
	if garbled := found.Unexplained(r); err == nil && garbled != nil {
		err = notADigest(garbled)
	}
	return checked{path, r, err}
}

func (r checked) document() checkedImage {
	if r.err != nil {
		return checkedImage{Path: r.path, Sentence: view.ProblemSentence(r.err), Outcome: "error"}
	}
	return checkedAs(r.report)
}

// checkedAs is a report as the JSON document has it.
func checkedAs(r check.Report) checkedImage {
	c := checkedImage{
		Path: r.Path, Sentence: view.CheckSentence(r), Size: r.Size, Packing: r.Packing, Member: r.Member,
		Unpacked: r.Unpacked.Known(), Download: receipt.Digests(r.Download), Image: receipt.Digests(r.Image),
		Published: receipt.PublishedOf(r), Signatures: receipt.SignaturesOf(r),
		Problems: view.CheckProblems(r), NotHere: r.NotHere,
	}
	if r.Via != nil {
		c.From = r.Via.Path
	}
	for _, d := range r.Near {
		c.Near = append(c.Near, receipt.Published{
			Algorithm: d.Algorithm.Plain(), Hex: d.Hex(), File: d.From, Line: d.Line,
		})
	}
	switch r.Outcome() {
	case check.Matched:
		c.Outcome = "as published"
	case check.Mismatched:
		c.Outcome = "not as published"
	case check.Broken:
		c.Outcome = "no whole image"
	case check.NothingPublished:
		c.Outcome = "nothing published"
	}
	return c
}
