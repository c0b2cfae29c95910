package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/near"
	"zipstamp/internal/view"
)

// maxSumsArgument bounds a file that is taken for one of digests without being named so, bytes.
const maxSumsArgument = 4 << 20

// sumsAt reads a file that was named where an image is expected, if it is one of digests and can be no image; nil
// otherwise.
func sumsAt(path string) *digest.Sums {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || info.Size() > maxSumsArgument || image.IsNamed(filepath.Base(path)) &&
		!isNamedForSums(path) {
		return nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	sums, err := digest.ReadSums(f, filepath.Base(path))
	if err != nil {
		return nil
	}
	return sums
}

// isNamedForSums tells a file of digests that is named after its image: os.img.sha256.
func isNamedForSums(path string) bool {
	name := filepath.Base(path)
	return digest.IsSumsFile(name, strings.TrimSuffix(name, filepath.Ext(name)))
}

// split takes the files of digests out of the files that were named.
func splitSums(named []string) (images, sums []string) {
	for _, path := range named {
		if sumsAt(path) != nil {
			sums = append(sums, path)
		} else {
			images = append(images, path)
		}
	}
	return images, sums
}

// namedBy are the files that a file of digests names, or is named after: those that are here, and the names of the
// others.
func namedBy(path string) (here, missing []string) {
	sums := sumsAt(path)
	if sums == nil {
		return nil, nil
	}
	folder := filepath.Dir(path)
	beside, err := readSome(folder)
	if err != nil && len(beside) == 0 {
		return nil, nil
	}
	for _, e := range sums.Entries {
		name := e.File
		if name == "" {
			name = strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
			if !digest.IsSumsFile(filepath.Base(path), name) {
				continue
			}
		}
		at := filepath.Join(folder, e.Base())
		if e.File == "" {
			at = filepath.Join(folder, name)
		} else if clean := filepath.FromSlash(name); filepath.IsLocal(clean) && exists(filepath.Join(folder, clean)) {
			at = filepath.Join(folder, clean)
		}
		switch {
		case slices.Contains(here, at), slices.Contains(missing, name):
		case isFile(at):
			here = append(here, at)
		default:
			if packed := packedFor(at, beside); packed != "" && !slices.Contains(here, packed) {
				here = append(here, packed)
			} else if packed == "" {
				missing = append(missing, name)
			}
		}
	}
	return here, missing
}

// packedFor is a file beside one that isn't here which unpacks to that: its digest may be published, too.
func packedFor(path string, beside []fs.DirEntry) string {
	for _, e := range beside {
		if image.UnpacksTo(e.Name(), filepath.Base(path)) {
			return filepath.Join(filepath.Dir(path), e.Name())
		}
	}
	return ""
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// imagesOf gives the images that files of digests name, with the files that name each.
func imagesOf(sums []string) (images []string, of map[string][]string, missing []string, err error) {
	of = map[string][]string{}
	for _, path := range sums {
		here, not := namedBy(path)
		missing = append(missing, not...)
		for _, image := range here {
			if of[image] == nil {
				images = append(images, image)
			}
			of[image] = append(of[image], path)
		}
	}
	if len(images) == 0 {
		return nil, nil, missing, &usageError{view.NamesNoneHere(sums[0], missing, nearest(sums[0], missing))}
	}
	return images, of, missing, nil
}

// nearest are files beside one of digests that are named nearly as those it names.
func nearest(sums string, missing []string) (found []string) {
	entries, err := readSome(filepath.Dir(sums))
	if err != nil {
		return nil
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	for _, m := range missing[:min(len(missing), nearFolders)] {
		found = append(found, near.Words(filepath.Base(m), names)...)
	}
	slices.Sort(found)
	return slices.Compact(found)
}

// notSums refuses a file of digests in the place of an image, with the command for the image that it names.
func (a *app) notSums(path string) error {
	if sumsAt(path) == nil {
		return nil
	}
	here, _ := namedBy(path)
	return &usageError{view.SumsNoImage(path, view.DidYouMean(mapped(here[:min(len(here), 3)],
		func(image string) string {
			return a.corrected(path, image)
		})...))}
}
