package digest

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Published is a digest that somebody published for an image, and where it was found.
type Published struct {
	Digest
	From string // the sums file's path; empty if the user gave the digest itself
	Line int    // in that file, from 1
	File string // the name that stands there; empty if none does
	Sums *Sums  // the file; nil if the user gave the digest itself
}

// Source is where it was found, for messages.
func (p Published) Source() string {
	if p.Sums == nil {
		return "the digest given"
	}
	return fmt.Sprintf("%s, line %d", p.From, p.Line)
}

// isSumsEnding tells whether ending (without its dot) is one that the digest of a single image has:
// sha256, sha256sum, sha256.txt, and so for each algorithm, in any case.
func isSumsEnding(ending string) bool {
	ending = strings.ToLower(ending)
	for _, tail := range []string{"sum", "sums", ".txt"} {
		ending = strings.TrimSuffix(ending, tail)
	}
	return byName(ending) != 0 && !strings.ContainsAny(ending, "-_")
}

// isSumsName tells whether name is one that a sums file for many images has: SHA256SUMS,
// SHA256SUM, CHECKSUM, CHECKSUMS, in any case, perhaps with .txt.
func isSumsName(name string) bool {
	name = strings.TrimSuffix(strings.ToLower(name), ".txt")
	name = strings.TrimSuffix(name, "s")
	what, isSum := strings.CutSuffix(name, "sum")
	return byName(what) != 0 || isSum && what == "check"
}

// Beside finds the sums files that lie in the image's folder: those that bear one of the names it goes by,
// and those for the whole folder. Each is read, and all the digests for the image are returned,
// with an error for every file that doesn't name the image or contradicts itself.
func Beside(image string, names ...string) ([]Published, []*SumsError, error) {
	folder := filepath.Dir(image)
	files, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrPermission) {
		return nil, nil, nil // a folder that may not be listed: nothing can be found there
	}
	if err != nil {
		return nil, nil, fmt.Errorf("look for sums files beside %s: %w", image, err)
	}
	var paths []string
	for _, f := range files {
		if !isFor(f.Name(), names) {
			continue
		}
		path := filepath.Join(folder, f.Name())
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() { // a pipe might never give anything
			paths = append(paths, path)
		}
	}
	return InFiles(paths, names...)
}

// InFiles reads the sums files at paths and returns the digests that they have for one of names,
// with an error for every file that has none or contradicts itself.
func InFiles(paths []string, names ...string) ([]Published, []*SumsError, error) {
	var found []Published
	var wrong []*SumsError
	for _, path := range paths {
		more, err := inFile(path, names)
		var w *SumsError
		switch {
		case errors.As(err, &w):
			wrong = append(wrong, w)
		case err != nil:
			return nil, nil, err
		}
		found = append(found, more...)
	}
	return found, wrong, nil
}

func isFor(file string, names []string) bool {
	return isSumsName(file) || slices.ContainsFunc(names, func(name string) bool {
		ending, ok := strings.CutPrefix(file, name+".")
		return ok && isSumsEnding(ending)
	})
}

func inFile(path string, names []string) ([]Published, error) {
	// A pipe that the shell made for a command is fine; one that lies about may never give anything.
	info, err := os.Stat(path)
	if err == nil && info.Mode()&fs.ModeNamedPipe != 0 && !strings.HasPrefix(path, "/dev/fd/") && !strings.HasPrefix(
		path, "/proc/",
	) {
		return nil, &SumsError{filepath.Base(path), "is a pipe, not a file", nil}
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("open sums file: %w", err)
	}
	defer f.Close()
	sums, err := ReadSums(f, filepath.Base(path))
	if err != nil {
		return nil, err
	}
	entries, err := sums.Lookup(names...)
	if err != nil {
		return nil, err
	}
	var found []Published
	for _, e := range entries {
		found = append(found, Published{Digest: e.Digest, From: path, Line: e.Line, File: e.File, Sums: sums})
	}
	return found, nil
}
