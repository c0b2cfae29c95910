// Package loose knows files that belong on a FAT card one by one: systems that come as an archive, or as a folder, of
// files to be copied. It lists them, sees whether FAT can hold them, makes of them the stream of bytes that such a card
// starts with, without an unpacked copy, and reads them back from the card as files.
package loose

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Set is loose files, in the order in which they are read.
type Set struct {
	Path    string
	Archive *image.File // nil: the files are in a folder
	Packing string      // of the archive
	Files   []layout.NewFile
	Count   int    // of files, folders not counted
	Bytes   int64  // of all files
	Within  string // the folder whose contents they are; empty: they are all that is there
	Chosen  bool   // that folder was found to be the one that boards start from, and was not asked for
	Litter  int    // files left out that systems add for themselves
	Undated int    // files with a time that FAT can't have, which get the nearest that it can

	names []string // of Files, as the archive has them
}

// Fault is a kind of reason why loose files can't be taken.
type Fault string

// The kinds.
const (
	Nothing  Fault = "no files"                      // or none below the folder that was asked for
	Link     Fault = "a link"                        // which FAT has none of
	Special  Fault = "a device or pipe"              //
	Outside  Fault = "leads out of the archive"      // a path with ".."
	HoldsOne Fault = "an image of a disk is in it"   // which is to be stamped
	TooMany  Fault = "more files than can be listed" // in a folder
)

// Error says why loose files can't be taken.
type Error struct {
	Path string // of the archive or folder
	Why  Fault
	Name string // of the file; may be empty
}

func (e *Error) Error() string {
	if e.Name != "" {
		return fmt.Sprintf("%s: %s: %s", e.Path, e.Name, e.Why)
	}
	return fmt.Sprintf("%s: %s", e.Path, e.Why)
}

// found is what a set is made from.
type found struct {
	image.Member
	path string // cleaned
}

// OfArchive lists the files of an archive. within is the folder whose contents are wanted; "" takes the one from which
// boards start, if all files are in one, and "." everything. An archive that is packed as a whole is unpacked for that,
// of which m tells; it may be nil. The error is an *Error, the cause of ctx's end, or as image.File.Members has them.
func OfArchive(ctx context.Context, f *image.File, within string, m *meter.Meter) (*Set, error) {
	if f.Once() {
		return nil, &image.UnusableError{Path: f.Path, Why: image.NeedsFile, Packing: f.Packing()}
	}
	var tap io.Writer
	if !f.HasDirectory() {
		tap = &listing{ctx: ctx, meter: m}
	}
	members, err := f.Members(tap)
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return nil, err
	}
	defer members.Close()
	s := &Set{Path: f.Path, Archive: f, Packing: members.Packing()}
	var all []found
	for {
		one, err := members.Next()
		if err == io.EOF {
			break
		}
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		if err != nil {
			return nil, err
		}
		p, err := s.clean(one.Name)
		if err != nil {
			return nil, err
		}
		if p != "" {
			all = append(all, found{one, p})
		}
	}
	return s, s.take(all, within)
}

// listing tells how far an archive has been read to list it, and stops at the context's end.
type listing struct {
	ctx   context.Context
	meter *meter.Meter
}

func (l *listing) Write(p []byte) (int, error) {
	if l.ctx.Err() != nil {
		return 0, context.Cause(l.ctx)
	}
	l.meter.Add(int64(len(p)))
	return len(p), nil
}

// FolderPacking stands for the packing of files in a folder.
const FolderPacking = "folder"

// filesMost bounds the files of a folder; archives have a bound of their own.
const filesMost = 100_000

// OfFolder lists the files in a folder, likewise.
func OfFolder(folder, within string) (*Set, error) {
	s := &Set{Path: folder, Packing: FolderPacking}
	var all []found
	err := filepath.WalkDir(folder, func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, err := filepath.Rel(folder, at)
		if err != nil || name == "." {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		one := image.Member{Name: filepath.ToSlash(name), Size: info.Size(), Modified: info.ModTime()}
		switch mode := info.Mode(); {
		case mode.IsDir():
			one.Kind, one.Size = image.MemberFolder, 0
			if isLitter(one.Name) {
				s.Litter++
				return fs.SkipDir
			}
		case mode&fs.ModeSymlink != 0:
			one.Kind = image.MemberLink
		case !mode.IsRegular():
			one.Kind = image.MemberSpecial
		default: // one that can't be read must not be found when the card has been overwritten
			file, err := os.Open(at)
			if err != nil {
				return err
			}
			file.Close()
		}
		if len(all) == filesMost {
			return &Error{Path: folder, Why: TooMany}
		}
		all = append(all, found{one, one.Name})
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s, s.take(all, within)
}

// clean is a name of an archive as a path below its root; empty for that itself.
func (s *Set) clean(name string) (string, error) {
	if slices.Contains(strings.Split(name, "/"), "..") {
		return "", &Error{s.Path, Outside, name}
	}
	return strings.TrimPrefix(path.Clean("/"+name), "/"), nil
}

// isLitter tells files that some systems add for themselves, and that nobody wants on a card.
func isLitter(name string) bool {
	for _, part := range strings.Split(name, "/") {
		switch part {
		case "__MACOSX", ".DS_Store", ".Spotlight-V100", ".Trashes", ".fseventsd", "System Volume Information",
			"Thumbs.db",
			"desktop.ini":
			return true
		}
		if strings.HasPrefix(part, "._") {
			return true
		}
	}
	return false
}

// take makes the set of what was found.
func (s *Set) take(all []found, within string) error {
	all = slices.DeleteFunc(all, func(f found) bool {
		litter := isLitter(f.path)
		if litter && f.Kind != image.MemberFolder {
			s.Litter++
		}
		return litter
	})
	switch within {
	case "":
		s.Within = startFolder(all)
		s.Chosen = s.Within != ""
	case ".":
	default:
		s.Within = strings.Trim(path.Clean("/"+filepath.ToSlash(within)), "/")
	}
	folders := map[string]bool{}
	for _, f := range all {
		p := f.path
		if s.Within != "" {
			below, ok := strings.CutPrefix(p, s.Within+"/")
			if !ok {
				continue
			}
			p = below
		}
		one := layout.NewFile{Path: p, Size: f.Size, Modified: f.Modified}
		switch f.Kind {
		case image.MemberFolder:
			if folders[p] {
				continue
			}
			folders[p], one.Folder = true, true
		case image.MemberLink:
			return &Error{s.Path, Link, f.Name}
		case image.MemberSpecial:
			return &Error{s.Path, Special, f.Name}
		case image.MemberFile:
			s.Count++
			s.Bytes += f.Size
			if t := f.Modified; !t.IsZero() && layout.FATTime(t).Sub(t.UTC()).Abs() > 2*time.Second {
				s.Undated++
			}
		}
		s.Files = append(s.Files, one)
		s.names = append(s.names, f.Name)
	}
	if s.Count == 0 {
		return &Error{s.Path, Nothing, s.Within}
	}
	return nil
}

// startFolder is the folder that has everything, if a board starts from what is directly in it; empty if the files are
// where they belong. Names that boards look below are folders of the card, and not around it.
func startFolder(all []found) string {
	top := ""
	starts := false
	for _, f := range all {
		first, rest, below := strings.Cut(f.path, "/")
		if top == "" {
			top = first
		}
		if first != top || !below && f.Kind != image.MemberFolder {
			return ""
		}
		lower := strings.ToLower(rest)
		starts = starts || f.Kind == image.MemberFile && (!strings.Contains(rest, "/") && (layout.IsBootFile(rest) ||
			slices.Contains([]string{"config.txt", "cmdline.txt", "extlinux.conf", "grub.cfg"}, lower)) ||
			strings.HasPrefix(lower, "efi/boot/") || strings.HasPrefix(lower, "extlinux/"))
	}
	if !starts || slices.Contains([]string{"boot", "efi", "extlinux"}, strings.ToLower(top)) {
		return ""
	}
	return top
}

// errChanged says that the files are no longer those that were listed.
var errChanged = errors.New("the files are no longer those that were listed")

// IsChanged tells errors of files that changed since they were listed.
func IsChanged(err error) bool { return errors.Is(err, errChanged) }

// reader reads the contents of the files, one after the other, in their order.
type reader interface {
	next(i int) (io.Reader, error) // of the file with this number
	end() error                    // all have been read
	Position() int64
	Close() error
}

// open starts to read the files. All bytes of an archive go through tap by the end.
func (s *Set) open(tap io.Writer) (reader, error) {
	if s.Archive == nil {
		return &folderReader{set: s}, nil
	}
	m, err := s.Archive.Members(tap)
	if err != nil {
		return nil, err
	}
	return &archiveReader{Members: m, set: s}, nil
}

// archiveReader reads an archive from its start to its end.
type archiveReader struct {
	*image.Members
	set *Set
}

func (a *archiveReader) next(i int) (io.Reader, error) {
	want := a.set.Files[i]
	for {
		m, err := a.Next()
		switch {
		case err == io.EOF:
			return nil, errChanged
		case err != nil:
			return nil, err
		case m.Name != a.set.names[i] || m.Kind != image.MemberFile:
			continue // left out, or a folder
		case m.Size != want.Size:
			return nil, errChanged
		}
		return a.Members, nil
	}
}

func (a *archiveReader) end() error {
	for {
		if _, err := a.Next(); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}

// folderReader reads files where they are.
type folderReader struct {
	set  *Set
	file *os.File
	done counter
}

func (f *folderReader) next(i int) (io.Reader, error) {
	f.Close()
	file, err := os.Open(filepath.Join(f.set.Path, filepath.FromSlash(f.set.names[i])))
	if err != nil {
		return nil, err
	}
	f.file = file
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	if want := f.set.Files[i]; !info.Mode().IsRegular() || info.Size() != want.Size ||
		!info.ModTime().Equal(want.Modified) {
		return nil, errChanged
	}
	return io.TeeReader(file, &f.done), nil
}

func (f *folderReader) end() error { return nil }

func (f *folderReader) Position() int64 { return f.done.n.Load() }

func (f *folderReader) Close() error {
	if f.file == nil {
		return nil
	}
	return f.file.Close()
}
