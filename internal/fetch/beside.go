package fetch

import (
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

// The names under which publishers put digests beside a file, or beside its unpacked image, and for all in a folder.
var (
	ownEndings  = []string{".sha256", ".sha512", ".sha256sum", ".sha512sum", ".sha256.txt", ".sha1", ".md5"}
	folderNames = []string{
		"SHA256SUMS", "SHA512SUMS", "SHA256SUMS.txt", "sha256sums.txt", "sha256sum.txt", "CHECKSUM", "CHECKSUMS",
		"checksums.txt",
	}
	signedEndings = []string{".asc", ".sig", ".minisig", ".sign"}
)

// Beside asks for the digests and signatures of a file, where publishers put them: names are those of the file and of
// the image in it. good tells whether a text is what its name says; others are left out, such as pages that say that
// nothing is there. missed is the first error by which it isn't known whether there is something; err is that of ctx.
func (c *Client) Beside(
	ctx context.Context, of Address, names []string, good func(Companion) bool,
) (found []Companion, missed, err error) {
	var ask []string
	for i, name := range names {
		for j, ending := range ownEndings {
			if i == 0 || j < 2 {
				ask = append(ask, name+ending)
			}
		}
	}
	for _, ending := range append([]string{MetalinkEnding, ".gpg"}, signedEndings...) {
		ask = append(ask, names[0]+ending)
	}
	found, missed, err = c.askBeside(ctx, of, append(ask, folderNames...), good)
	if err != nil {
		return nil, nil, err
	}
	ask = nil
	for _, f := range found {
		if !isSignature(f.Name) && !strings.HasSuffix(f.Name, MetalinkEnding) {
			for _, ending := range append([]string{".gpg"}, signedEndings...) {
				ask = append(ask, f.Name+ending)
			}
		}
	}
	more, also, err := c.askBeside(ctx, of, ask, good)
	if missed == nil {
		missed = also
	}
	return append(found, more...), missed, err
}

func isSignature(name string) bool {
	return slices.ContainsFunc(append([]string{".gpg"}, signedEndings...), func(e string) bool {
		return strings.HasSuffix(name, e)
	})
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
