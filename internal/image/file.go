// Package image knows what a download is: how it is packed, by its contents and not by its name, how
// large it is when unpacked, which member of an archive is the image, and whether it is an image at
// all. It unpacks as a stream, so that no unpacked copy is needed.
package image

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
)

// File is a download, open for reading. It can be looked at and unpacked any number of times, by one
// goroutine at a time.
type File struct {
	Path string
	Size int64 // bytes of the download, as it is packed
	file *os.File
	head []byte
	info fs.FileInfo

	looked map[string]look // by member: what Look has found
}

// look is an answer of Look.
type look struct {
	contents Contents
	err      error
}

// Open opens the download at path. Errors are those of the file system; what the file holds is
// found by Look.
func Open(path string) (*File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s is a folder; an image is one file: %w", path, fs.ErrInvalid)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a file; are image and card in the right order? %w", path, fs.ErrInvalid)
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	f := &File{Path: path, Size: info.Size(), file: file, info: info, head: make([]byte, headSize), looked: map[string]look{}}
	n, err := file.ReadAt(f.head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		file.Close()
		return nil, err
	}
	f.head = f.head[:n]
	return f, nil
}

// Close closes the file.
func (f *File) Close() error { return f.file.Close() }

// Same tells whether path is this very file.
func (f *File) Same(path string) bool {
	info, err := os.Stat(path)
	return err == nil && os.SameFile(info, f.info)
}

// ModTime is when the file was last changed, as its file system says.
func (f *File) ModTime() string { return f.info.ModTime().UTC().Format("2006-01-02T15:04:05Z") }

// Packing is the name of the packing that the file's first bytes show.
func (f *File) Packing() string { return f.packing().name }

func (f *File) packing() packing {
	for _, p := range packings {
		if p.match(f.head) {
			return p
		}
	}
	panic("unreachable: the last packing takes everything")
}

// Names are the names under which the image may have been published: that of the file, and that
// without the ending of its packing.
func (f *File) Names() []string {
	base := filepath.Base(f.Path)
	names := []string{base}
	for _, ending := range f.packing().endings {
		if len(base) > len(ending) && strings.EqualFold(base[len(base)-len(ending):], ending) {
			names = append(names, base[:len(base)-len(ending)])
		}
	}
	return names
}

// Names adds to the names of the file those of the image within it.
func (c Contents) Names(f *File) []string {
	names := f.Names()
	if c.Member != "" {
		names = append(names, path.Base(strings.ReplaceAll(c.Member, `\`, "/")))
	}
	return names
}

// Look finds out what is in the file, without unpacking more than the first bytes, and remembers it. member
// names the image within an archive; it may be empty where there is only one.
// The error is a *DamageError, *UnusableError or *ChoiceError, or one of reading.
func (f *File) Look(member string) (Contents, error) {
	found, done := f.looked[member]
	if !done {
		found.contents, found.err = f.look(member)
		f.looked[member] = found
	}
	return found.contents, found.err
}

func (f *File) look(member string) (Contents, error) {
	if f.Size == 0 {
		return Contents{}, &UnusableError{f.Path, "is empty", "download it again"}
	}
	p := f.packing()
	if p.name == RawPacking {
		if what := stranger(f.head); what != "" {
			return Contents{}, notAnImage(f.Path, what)
		}
	}
	if member != "" && p.name != zipPacking.name {
		return Contents{}, &UnusableError{f.Path, "holds a single image, so there is no member to choose", "leave --member out"}
	}
	c, err := p.look(f, member)
	if err != nil {
		return Contents{}, f.name(err, p.name, 0)
	}
	return c, nil
}

func notAnImage(path, what string) error {
	next := "download the image again, from its publisher's page"
	if strings.HasSuffix(what, "archive") || strings.HasSuffix(what, "file") {
		next = "unpack it first, and give the image that is in it"
	}
	return &UnusableError{path, "is " + what + ", not an image of a disk", next}
}

// Shortfall tells by how many bytes a raw image is shorter than its own partition table says; 0 if it isn't.
func (f *File) Shortfall() int64 {
	if f.Packing() != RawPacking {
		return 0
	}
	return max(partitionsEnd(f.head)-f.Size, 0)
}

// What says what the file is, where it is no image of a disk: "a web page"; "" otherwise.
func (f *File) What() string {
	if f.Packing() != RawPacking {
		return ""
	}
	return stranger(f.head)
}

// Reader reads the file as it was downloaded, from its start.
func (f *File) Reader() io.Reader { return io.NewSectionReader(f.file, 0, f.Size) }

// name completes an error of a decoder with what it was about. at is the offset for an error that knows none.
func (f *File) name(err error, packing string, at int64) error {
	var pathErr *fs.PathError
	var damage *DamageError
	switch {
	case errors.As(err, &damage):
		damage.Path, damage.Packing = f.Path, packing
		return damage
	case errors.As(err, new(*UnusableError)), errors.As(err, new(*ChoiceError)), errors.As(err, &pathErr):
		return err
	}
	return &DamageError{Path: f.Path, Packing: packing, At: at, Err: err}
}
