package check

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
)

// An image that somebody has unpacked by hand has no published digest as a rule: publishers give that of the packed
// file. If that file is here, it is checked, and the image is compared with what it unpacks to.

// Via is the packed file that an image was unpacked from.
type Via struct {
	Path   string
	Right  bool  // it is what was published
	Same   bool  // the image is what it unpacks to
	Damage error // why it can't be unpacked
}

// findPacked looks for published digests of a packed file that the image may have been unpacked from, where there are
// none of the image itself, and for that file.
func (p *Published) findPacked(f *image.File) {
	if f.Path == image.Input || f.Packing() != image.RawPacking {
		return
	}
	name := filepath.Base(f.Path)
	if len(p.Digests) > 0 { // given, so nobody knows of what
		if !slices.ContainsFunc(p.Digests, func(d digest.Published) bool { return d.From != "" }) {
			p.packed = packedBeside(f.Path)
		}
		return
	}
	p.Wrong = slices.DeleteFunc(p.Wrong, func(w *digest.SumsError) bool {
		if !w.Absent || w.Sums == nil {
			return false
		}
		of := false
		for _, e := range w.Sums.Entries {
			if !image.UnpacksTo(e.Base(), name) {
				continue
			}
			of = true
			path := filepath.Join(filepath.Dir(f.Path), e.Base())
			switch {
			case !isRegular(path):
				p.NotHere = append(p.NotHere, e.Base())
			case p.packed == "" || p.packed == path:
				p.packed = path
				p.Digests = append(p.Digests, w.Sums.Published(e, filepath.Join(filepath.Dir(f.Path), w.Name)))
			}
		}
		return of
	})
	if p.packed != "" {
		p.NotHere = nil
	}
	slices.Sort(p.NotHere)
	p.NotHere = slices.Compact(p.NotHere)
}

// packedBeside is the one file in the folder of an image that may unpack to it; empty if there is none, or more.
func packedBeside(path string) string {
	files, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return ""
	}
	found := ""
	for _, file := range files {
		beside := filepath.Join(filepath.Dir(path), file.Name())
		if !image.UnpacksTo(file.Name(), filepath.Base(path)) || !isRegular(beside) {
			continue
		}
		if found != "" {
			return ""
		}
		found = beside
	}
	return found
}

func isRegular(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// lookPacked checks the packed file, and compares the image with what it unpacks to. The image's own digests are known.
func (r *Report) lookPacked(
	ctx context.Context, p Published, algorithms []digest.Algorithm, m *meter.Meter,
) error {
	f, err := image.Open(p.packed)
	if err != nil {
		return nil // it has gone; then it tells nothing
	}
	defer f.Close()
	of := Report{Path: f.Path, Size: f.Size, Packing: f.Packing()}
	c, err := f.Look("")
	switch {
	case errors.Is(err, fs.ErrPermission):
		return nil
	case err != nil:
		of.Damage = err
	default:
		err = of.both(ctx, f, c, algorithms, algorithms, m)
	}
	if err == nil && of.Download == nil {
		err = of.download(ctx, f, algorithms, m)
	}
	if of.Damage == nil && err != nil {
		return err
	}
	r.Via = &Via{Path: p.packed, Damage: of.Damage}
	r.packed = of.Download
	for _, d := range p.Digests {
		if _, ok := equal(d, of.Download); ok {
			r.Via.Right = true
		}
	}
	for _, d := range r.Download {
		if d.Algorithm == digest.SHA256 && slices.Contains(of.Image, d) {
			r.Via.Same = true
		}
	}
	if !r.Via.Right && !slices.ContainsFunc(p.Digests, func(d digest.Published) bool { return d.From != "" }) {
		r.Via = nil // the digest given is not of that file, either
	}
	return nil
}

// equal finds the digest that was published among some. One of which only the number of digits is known may be by
// another algorithm.
func equal(d digest.Published, among []digest.Digest) (digest.Digest, bool) {
	for _, one := range among {
		if one == d.Digest || d.Guessed && one.Hex() == d.Hex() {
			return one, true
		}
	}
	return digest.Digest{}, false
}
