package digest

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Published is a digest that somebody published for an image, and where it was found.
type Published struct {
	Digest
	From     string // the sums file's path, or what else it stands in; empty if the user gave the digest itself
	Place    string // what messages call that; empty: From
	Line     int    // in that file, from 1
	File     string // the name that stands there; empty if none does
	Guessed  bool   // only the number of digits tells the algorithm, and others have as many
	Misnamed bool   // it was given for the image, though the name that stands there is another one
	Sums     *Sums  // the file; nil if the user gave the digest itself
}

// Source is where it was found, for messages.
func (p Published) Source() string {
	where := cmp.Or(p.Place, p.From, GivenName)
	if p.Sums == nil {
		return where
	}
	return fmt.Sprintf("%s, line %d", where, p.Line)
}

// sumWords are words in the names of files that hold digests, besides those of algorithms.
var sumWords = map[string]bool{
	"sum": true, "sums": true, "hash": true, "hashes": true, "digest": true, "digests": true, "checksum": true,
	"checksums": true, "sha": true, "shasum": true, "shasums": true, "check": true,
}

// isSumsEnding tells whether ending (without its dot) is one that the digest of a single image has:
// sha256, sha256sum, sha256.txt, and so for each algorithm, sha, digest and the like, in any case.
func isSumsEnding(ending string) bool {
	ending = strings.TrimSuffix(strings.ToLower(ending), ".txt")
	for _, tail := range []string{"sums", "sum"} {
		if byName(strings.TrimSuffix(ending, tail)) != 0 && !strings.ContainsAny(ending, "_") {
			return true
		}
	}
	return sumWords[ending] && ending != "check"
}

// isSumsName tells whether name is one that a sums file for many images has: SHA256SUMS,
// SHA256SUM, CHECKSUM, CHECKSUMS, in any case, perhaps with .txt.
func isSumsName(name string) bool {
	name = strings.TrimSuffix(strings.ToLower(name), ".txt")
	name = strings.TrimSuffix(name, "s")
	what, isSum := strings.CutSuffix(name, "sum")
	return byName(what) != 0 && !strings.HasPrefix(what, "b") || isSum && (what == "check" || byName(what) != 0)
}

// again is what browsers add to the name of a file that they have downloaded before.
var again = regexp.MustCompile(` ?\(\d+\)(\.[^.]*)?$`)

// Beside is what lies in the folder of an image.
type Beside struct {
	Published []Published
	Wrong     []*SumsError // files that should name the image and don't, or contradict themselves
	// digests without a name, in files that are not named after the image: they count only if they are right
	Loose []Published
}

// Bounds of the files that are read for a digest though their names don't say that they have one.
const (
	maxLoose  = 64 << 10 // bytes
	looseRead = 40       // files
)

// Files reads folders, and files of digests, once for many images. All its methods work on a nil *Files, which reads
// anew each time, and from any goroutine.
type Files struct {
	mu      sync.Mutex
	folders map[string]*folder
	sums    map[string]*readOnce
}

// readOnce is a file of digests that one goroutine reads, and others wait for.
type readOnce struct {
	once sync.Once
	sums *Sums
	err  error
}

// folder is what may have digests in a folder.
type folder struct {
	once  sync.Once
	err   error
	all   []string            // names that digests for the whole folder have
	named map[string][]string // names by that of the image they are named after
	texts []string            // names that a text with digests may have
}

// read reads a file of digests.
func (c *Files) read(path string) (*Sums, error) {
	if c == nil {
		return readSumsAt(path)
	}
	c.mu.Lock()
	if c.sums == nil {
		c.sums = map[string]*readOnce{}
	}
	one := c.sums[path]
	if one == nil {
		one = &readOnce{}
		c.sums[path] = one
	}
	c.mu.Unlock()
	one.once.Do(func() { one.sums, one.err = readSumsAt(path) })
	return one.sums, one.err
}

func readSumsAt(path string) (*Sums, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("open sums file: %w", err)
	}
	defer f.Close()
	return ReadSums(f, filepath.Base(path))
}

// list looks what is in a folder.
func (c *Files) list(path string) (*folder, error) {
	f := &folder{}
	if c != nil {
		c.mu.Lock()
		if c.folders == nil {
			c.folders = map[string]*folder{}
		}
		if known := c.folders[path]; known != nil {
			f = known
		}
		c.folders[path] = f
		c.mu.Unlock()
	}
	f.once.Do(func() { f.err = f.read(path) })
	return f, f.err
}

func (f *folder) read(path string) error {
	entries, err := os.ReadDir(path)
	f.named = map[string][]string{}
	for _, e := range entries {
		name := again.ReplaceAllString(e.Name(), "$1")
		if isSumsName(name) {
			f.all = append(f.all, e.Name())
		}
		for i := 1; i < len(name); i++ {
			if strings.IndexByte(nameEnds, name[i]) >= 0 && isSumsEnding(name[i+1:]) {
				f.named[name[:i]] = append(f.named[name[:i]], e.Name())
			}
		}
		if mayHold(name) {
			f.texts = append(f.texts, e.Name())
		}
	}
	return err
}

// sure are the files for one of the names of an image, or for all in the folder, in the folder's order; rest are other
// texts that may have digests.
func (f *folder) sure(image string, names []string) (sure, rest []string) {
	is := map[string]bool{}
	for _, name := range f.all {
		is[name] = true
	}
	for _, name := range names {
		for _, file := range f.named[name] {
			is[file] = true
		}
	}
	delete(is, image)
	for _, name := range f.texts {
		if !is[name] && name != image {
			rest = append(rest, name)
		}
	}
	return slices.Sorted(maps.Keys(is)), rest
}

// LookBeside finds the digests of an image in its folder: in the files that bear one of the names it goes by, in those
// for the whole folder, and, where there is none of these, in other small files of text. The error is one of reading
// the folder.
func LookBeside(image string, names ...string) (Beside, error) {
	return (*Files)(nil).Beside(image, names...)
}

// Beside is LookBeside, of files that are read once.
func (c *Files) Beside(image string, names ...string) (b Beside, err error) {
	path := filepath.Dir(image)
	files, err := c.list(path)
	if errors.Is(err, fs.ErrPermission) {
		return b, nil // a folder that may not be listed: nothing can be found there
	}
	if err != nil {
		return b, fmt.Errorf("look for sums files beside %s: %w", image, err)
	}
	sure, rest := files.sure(filepath.Base(image), names)
	within := func(names []string, most int64) (paths []string) {
		for _, name := range names {
			p := filepath.Join(path, name)
			info, err := os.Stat(p) // a pipe might never give anything
			if err == nil && info.Mode().IsRegular() && info.Size() <= most {
				paths = append(paths, p)
			}
			if most == maxLoose && len(paths) == looseRead {
				break
			}
		}
		return paths
	}
	if b.Published, b.Wrong, err = c.inFiles(within(sure, math.MaxInt64), false, names); err != nil {
		return b, err
	}
	b.Wrong = slices.DeleteFunc(b.Wrong, func(w *SumsError) bool { return w.Own })
	if len(b.Published) > 0 { // one for the whole folder may be for other images
		b.Wrong = slices.DeleteFunc(b.Wrong, func(w *SumsError) bool { return w.Absent && isSumsName(w.Name) })
	}
	if len(b.Published)+len(b.Wrong) > 0 {
		return b, nil
	}
	for _, p := range within(rest, maxLoose) {
		c.lookInto(&b, p, names)
	}
	return b, nil
}

// lookInto looks for digests in a file whose name doesn't say that it has those of the image. That it has none, or
// can't be read, means nothing.
func (c *Files) lookInto(b *Beside, path string, names []string) {
	sums, err := c.read(path)
	if err != nil {
		return
	}
	if found, err := sums.published(path, names); err == nil {
		b.Published = append(b.Published, found...)
		return
	}
	for _, e := range sums.Entries {
		if e.File == "" && len(b.Loose) < looseRead {
			b.Loose = append(b.Loose, e.from(path, sums))
		}
	}
}

// mayHold tells whether the name of a file is one that a text with digests may have.
func mayHold(name string) bool {
	low := strings.ToLower(name)
	switch filepath.Ext(low) {
	case ".txt", ".md", ".csv", ".json", ".toml", ".yaml", ".yml", ".html", ".htm", ".sha", ".digest", ".hash", ".lst":
		return true
	}
	return slices.ContainsFunc(strings.FieldsFunc(low, func(r rune) bool {
		return strings.ContainsRune(" ._-()", r)
	}), func(word string) bool { return sumWords[word] || named(word) != 0 })
}

// InFiles reads the sums files at paths and returns the digests that they have for one of names,
// with an error for every file that has none or contradicts itself.
func InFiles(paths []string, names ...string) ([]Published, []*SumsError, error) {
	return (*Files)(nil).inFiles(paths, false, names)
}

// InGiven is InFiles for files of which the user says that they are for the image: a digest without a name counts.
func InGiven(paths []string, names ...string) ([]Published, []*SumsError, error) {
	return (*Files)(nil).Given(paths, names...)
}

// Given is InGiven, of files that are read once.
func (c *Files) Given(paths []string, names ...string) ([]Published, []*SumsError, error) {
	return c.inFiles(paths, true, names)
}

func (c *Files) inFiles(paths []string, given bool, names []string) (found []Published, wrong []*SumsError, err error) {
	for _, path := range paths {
		more, err := c.inFile(path, given, names)
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

// isNamedAfter tells whether the name of a sums file is that of an image with more behind it: os.img.sha256,
// os.img-sha256.txt.
func isNamedAfter(file, name string) bool {
	rest, ok := strings.CutPrefix(file, name)
	return ok && rest != "" && strings.IndexByte(nameEnds, rest[0]) >= 0 && isSumsEnding(rest[1:])
}

// nameEnds are what may stand between the name of an image and the ending of its sums file.
const nameEnds = ".-_ "

// IsSumsFile tells by its name whether a file holds the digest of the file with another name.
func IsSumsFile(file, of string) bool { return isNamedAfter(again.ReplaceAllString(file, "$1"), of) }

func (c *Files) inFile(path string, given bool, names []string) ([]Published, error) {
	// A pipe that the shell made for a command is fine; one that lies about may never give anything.
	info, err := os.Stat(path)
	if err == nil && info.Mode()&fs.ModeNamedPipe != 0 && !strings.HasPrefix(path, "/dev/fd/") && !strings.HasPrefix(
		path, "/proc/",
	) {
		return nil, &SumsError{Name: filepath.Base(path), Why: "is a pipe, not a file"}
	}
	sums, err := c.read(path)
	if err != nil {
		return nil, err
	}
	if given && !slices.ContainsFunc(sums.Entries, func(e Entry) bool { return e.File != "" }) {
		own := *sums
		own.Given = true
		sums = &own
	}
	return sums.published(path, names)
}

// published are the digests that a sums file has for one of names.
func (s *Sums) published(path string, names []string) (found []Published, err error) {
	entries, err := s.Lookup(names...)
	for _, e := range entries {
		found = append(found, e.from(path, s))
	}
	return found, err
}

// Published is an entry of a sums file at a path.
func (s *Sums) Published(e Entry, path string) Published { return e.from(path, s) }

func (e Entry) from(path string, s *Sums) Published {
	return Published{Digest: e.Digest, From: path, Line: e.Line, File: e.File, Guessed: e.Guessed, Sums: s}
}

// For gives the digests for an image with the names, in what was given for it. A digest counts even if another name
// stands by it, as long as there is no other digest that it could be.
func (s *Sums) For(names ...string) ([]Published, error) {
	entries, err := s.Lookup(names...)
	misnamed := false
	var wrong *SumsError
	if errors.As(err, &wrong) && wrong.Absent && s.conflict("one file", s.Entries) == nil {
		entries, misnamed, err = dedupe(s.Entries), true, nil
	}
	var found []Published
	for _, e := range entries {
		found = append(found, Published{
			Digest: e.Digest, Line: e.Line, File: e.File, Guessed: e.Guessed, Misnamed: misnamed && e.File != "",
		})
	}
	return found, err
}
