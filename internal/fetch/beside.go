package fetch

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
)

// besideAtOnce is how many small files are asked for at once: small hosts refuse more.
const besideAtOnce = 2

// Companion is a small file that lies beside another one: digests, a signature, a Metalink document.
type Companion struct {
	Name string
	Smallfile
}

// Search is a search for the small files that publishers put beside a file.
type Search struct {
	Of    Address
	Names []string // of the file, and of the image in it
	// Good tells whether a text is what its name says; others are left out, such as pages that say that nothing is
	// there.
	Good func(Companion) bool
	// Tells tells whether a text has a digest of the file.
	Tells func(Companion) bool
	// Enough tells whether nothing more need be asked for to have a digest.
	Enough func([]Companion) bool
}

// Endings of the files with a digest of one file, or of its unpacked image, and names of those for a whole folder.
var (
	folderNames = []string{
		"SHA512SUMS", "CHECKSUM", "SHA256SUMS.txt", "sha256sums.txt", "sha256sum.txt", "CHECKSUMS", "checksums.txt",
	}
	ownEndings    = []string{".sha512", ".sha256sum", ".sha256.txt", ".sha512sum", ".sha1", ".md5"}
	signedEndings = []string{".minisig", ".asc", ".sig", ".gpg", ".sign"}
)

// digestNames are the names under which digests may lie, the likeliest first.
func digestNames(names []string) (all []string) {
	all = append(all, "SHA256SUMS")
	for _, name := range names {
		all = append(all, name+".sha256")
	}
	for i := range max(len(folderNames), len(ownEndings)) {
		if i < len(ownEndings) {
			all = append(all, names[0]+ownEndings[i])
		}
		if i < len(folderNames) {
			all = append(all, folderNames[i])
		}
	}
	for _, name := range names[1:] {
		all = append(all, name+".sha512")
	}
	return all
}

// Beside asks for the digests and signatures of a file, and for a Metalink document of it, until there is enough.
// missed is the first error by which it isn't known whether there is something; err is that of ctx.
func (c *Client) Beside(ctx context.Context, s Search) (found []Companion, missed, err error) {
	ask := func(names ...string) (more []Companion, lost bool, err error) {
		more, also, err := c.askBeside(ctx, s.Of, names, s.Good)
		found = append(found, more...)
		missed = cmp.Or(missed, also)
		return more, len(more) == 0 && also != nil, err
	}
	for some := range slices.Chunk(digestNames(s.Names), besideAtOnce) {
		more, lost, err := ask(some...)
		if err != nil {
			return nil, nil, err
		}
		if lost { // it has enough to do, or can't be reached
			return found, missed, nil
		}
		for _, f := range more {
			if s.Tells(f) {
				if _, _, err := ask(withEndings(f.Name)...); err != nil {
					return nil, nil, err
				}
			}
		}
		if s.Enough(found) {
			break
		}
	}
	_, _, err = ask(append(withEndings(s.Names[0]), s.Names[0]+MetalinkEnding)...)
	if err != nil {
		return nil, nil, err
	}
	return found, missed, nil
}

// withEndings are the names of signatures of a file.
func withEndings(name string) (all []string) {
	for _, ending := range signedEndings {
		all = append(all, name+ending)
	}
	return all
}

// IsSignature tells by its name whether a small file is a signature.
func (f Companion) IsSignature() bool {
	return slices.ContainsFunc(signedEndings, func(e string) bool { return strings.HasSuffix(f.Name, e) })
}

// askBeside asks for several files at once.
func (c *Client) askBeside(
	ctx context.Context, of Address, names []string, good func(Companion) bool,
) (found []Companion, missed, err error) {
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(besideAtOnce)
	for _, name := range names {
		group.Go(func() error {
			s, err := c.Small(ctx, of.Beside(name), maxSmall, nil)
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				if e := (*Error)(nil); missed == nil && errors.As(err, &e) && e.passing() {
					missed = err
				}
				return nil
			}
			one := Companion{name, s}
			if !isPage(s.Text[:min(len(s.Text), 1<<10)], s.Type) && good(one) {
				found = append(found, one)
			}
			return nil
		})
	}
	err = group.Wait()
	slices.SortFunc(found, func(a, b Companion) int { return strings.Compare(a.Name, b.Name) })
	return found, missed, err
}
