package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

// published are the flags by which the user says what an image is held against.
type published struct {
	digests []string
	sums    []string
	member  string
	limit   string // bytes, as a person writes them
}

func (p *published) flags(f *pflag.FlagSet) {
	f.StringArrayVar(&p.digests, "digest", nil, "the published digest, as `TEXT` (may be repeated)")
	f.StringArrayVar(&p.sums, "sums", nil, "a `FILE` with published digests (may be repeated)")
	f.StringVar(&p.member, "member", "", "the `NAME` of the image within an archive that holds several")
	limitFlag(f, &p.limit)
}

func limitFlag(f *pflag.FlagSet, limit *string) {
	f.StringVar(limit, "max-unpacked", "", "the most that an image may unpack to, as `SIZE`")
}

// bound sets the limit that the user gave, or another.
func bound(f *image.File, limit string, otherwise int64) error {
	f.Limit = otherwise
	if limit == "" {
		return nil
	}
	n, err := practice.ParseSize(limit)
	if err == nil && n <= 0 {
		err = errors.New("it must be more than nothing")
	}
	if err != nil {
		return &usageError{fmt.Errorf("--max-unpacked %s: %w", limit, err)}
	}
	f.Limit = int64(n)
	return nil
}

// given reads the digests of the command line.
func (p *published) given() ([]digest.Digest, error) {
	var out []digest.Digest
	for _, text := range p.digests {
		d, err := digest.Parse(text)
		if err != nil {
			return nil, &usageError{&view.Hint{Err: fmt.Errorf("--digest: %w", err), Next: "copy the digest again, whole, from the publisher's page"}}
		}
		out = append(out, d)
	}
	return out, nil
}

// find opens an image and collects what was published for it. The caller closes it.
func (p *published) find(path string) (*image.File, check.Published, error) {
	given, err := p.given()
	if err != nil {
		return nil, check.Published{}, err
	}
	f, err := image.Open(path)
	if err != nil {
		return nil, check.Published{}, openError(err)
	}
	if err := bound(f, p.limit, 0); err != nil {
		f.Close()
		return nil, check.Published{}, err
	}
	found, err := check.Find(f, p.member, given, p.sums)
	if err != nil {
		f.Close()
		return nil, found, openError(err)
	}
	return f, found, nil
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
	cmd := &cobra.Command{
		Use:   "check IMAGE...",
		Short: "Hold images against their published digests",
		Long: `Check computes the digest of each image and holds it against what was published:
the digest given by --digest, the sums files given by --sums, or, without
either, the sums files that lie beside the image (SHA256SUMS, IMAGE.sha256 and
the like). A digest may be that of the file as downloaded or that of the
unpacked image. With nothing published, it prints the digests.`,
		Example: `  zipstamp check saltmarsh-os.img.xz
  zipstamp check --digest 'SHA256: 9f86 d081 884c 7d65 ...' saltmarsh-os.img.xz
  zipstamp check --sums SHA256SUMS saltmarsh-os.img.xz`,
		Args: takes("one image or more", 1, math.MaxInt),
		RunE: func(cmd *cobra.Command, images []string) error {
			if len(images) > 1 && len(p.digests) > 0 {
				return &usageError{errors.New("--digest is the digest of one image, and several are named")}
			}
			return a.checkAll(cmd.Context(), images, &p, mustMatch)
		},
	}
	p.flags(cmd.Flags())
	cmd.Flags().BoolVar(&mustMatch, "must-match", false, "fail where there is nothing published to compare")
	return cmd
}

// checkDocument is the JSON document of check.
type checkDocument struct {
	Check  int            `json:"check"` // version of the document
	Images []checkedImage `json:"images"`
	Exit   int            `json:"exit"`
}

// checkedImage is an image in it.
type checkedImage struct {
	Path      string              `json:"path"`
	Sentence  string              `json:"sentence"`
	Outcome   string              `json:"outcome"` // as published, not as published, no whole image, nothing published, error
	Size      int64               `json:"size,omitempty"`
	Packing   string              `json:"packing,omitempty"`
	Member    string              `json:"member,omitempty"`
	Unpacked  int64               `json:"unpacked,omitempty"`
	Download  map[string]string   `json:"download_digests,omitempty"`
	Image     map[string]string   `json:"image_digests,omitempty"`
	Published []receipt.Published `json:"published,omitempty"`
	Problems  []string            `json:"problems,omitempty"`
}

// checkAll checks one image after the other, and fails as the worst of them.
func (a *app) checkAll(ctx context.Context, images []string, p *published, mustMatch bool) error {
	doc := checkDocument{Check: 1}
	var worst error
	right, wrong := 0, 0
	for i, path := range images {
		r, err := a.checkOne(ctx, path, p)
		if errors.Is(err, view.ErrInterrupted) {
			return err
		}
		if i > 0 && !a.json {
			fmt.Fprintln(a.screen.Out)
		}
		switch {
		case err != nil:
			doc.Images = append(doc.Images, checkedImage{Path: path, Sentence: view.ProblemSentence(err), Outcome: "error"})
			a.screen.Problem(err, a.words)
			wrong++
		case r.Outcome() == check.Mismatched, r.Outcome() == check.Broken, r.Outcome() == check.NothingPublished && mustMatch:
			err = errNotPublished
			wrong++
		case r.Outcome() == check.Matched:
			right++
		}
		if statusOf(err) > statusOf(worst) {
			worst = shown{err}
		}
		if r.Path != "" {
			doc.Images = append(doc.Images, checkedAs(r))
			if !a.json {
				a.screen.Check(r)
			}
		}
	}
	switch doc.Exit = statusOf(worst); {
	case a.json:
		a.printJSON(doc)
	case len(images) > 1:
		fmt.Fprintln(a.screen.Out)
		a.screen.Summary(len(images), right, wrong)
	}
	return worst
}

func (a *app) checkOne(ctx context.Context, path string, p *published) (check.Report, error) {
	f, found, err := p.find(path)
	if err != nil {
		return check.Report{}, err
	}
	defer f.Close()
	if _, err := f.Look(p.member); is[*image.ChoiceError](err) && p.member != "" {
		return check.Report{}, err
	}
	var m meter.Meter
	defer a.screen.Follow(&m)()
	defer m.End()
	return check.Run(ctx, f, p.member, found, &m)
}

// checkedAs is a report as the JSON document has it.
func checkedAs(r check.Report) checkedImage {
	c := checkedImage{
		Path: r.Path, Sentence: view.CheckSentence(r), Size: r.Size, Packing: r.Packing, Member: r.Member, Unpacked: r.Unpacked.Known(),
		Download: receipt.Digests(r.Download), Image: receipt.Digests(r.Image), Published: receipt.PublishedOf(r),
		Problems: problems(r),
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

// problems are the findings that explain a mismatch, in the program's words.
func problems(r check.Report) []string {
	var out []string
	for _, w := range r.Wrong {
		out = append(out, w.Error())
	}
	if r.What != "" {
		out = append(out, "the file is "+r.What)
	}
	if r.Damage != nil {
		out = append(out, r.Damage.Error())
	}
	if r.Shortfall > 0 {
		out = append(out, fmt.Sprintf("the file is %d bytes shorter than its partition table says", r.Shortfall))
	}
	return out
}
