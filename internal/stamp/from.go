package stamp

import (
	"context"
	"io"

	"zipstamp/internal/card"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
)

// Source is what is stamped: bytes that can be had more than once, and are the same each time.
type Source interface {
	Path() string     // of the download, for messages
	Download() int64  // bytes of the download; of a pipe, those that have come in
	Size() image.Size // of what is stamped
	Form() Form
	// Changed tells whether the download was written since it was opened, as far as its size and times say so.
	Changed() bool
	// Open starts to read it. All bytes of the download go through tap by its end; tap may be nil.
	Open(tap io.Writer) (Stream, error)
}

// Stream is a source that is read, from its start on.
type Stream interface {
	io.ReadCloser
	Position() int64 // bytes of the download that have been used; it may be called while another goroutine reads
}

// ZeroStream is a Stream that knows of zeros in it without reading them.
type ZeroStream interface {
	Stream
	SkipZeros(n int64) bool // whether the next n bytes are zeros for certain; then they are skipped
}

// Form is how a source follows from what was downloaded.
type Form uint8

// The forms.
const (
	AsIs     Form = iota // it is the download
	Unpacked             // it is packed in the download
	Composed             // it is made of what is in the download, so that it has no digest that others know
	Gathered             // likewise, of files that were never a download
)

// OfImage is the image in a file as a source; sources that were made apart are not equal.
func OfImage(f *image.File, c image.Contents) Source { return &imageSource{f, c} }

type imageSource struct {
	file     *image.File
	contents image.Contents
}

func (i *imageSource) Path() string     { return i.file.Path }
func (i *imageSource) Download() int64  { return i.file.Length() }
func (i *imageSource) Size() image.Size { return i.contents.Size }
func (i *imageSource) Changed() bool    { return i.file.Changed() }

func (i *imageSource) Form() Form {
	if i.contents.Packing == image.RawPacking {
		return AsIs
	}
	return Unpacked
}

func (i *imageSource) Open(tap io.Writer) (Stream, error) {
	if tap == nil && i.Form() == AsIs && !i.file.Once() {
		p, err := i.file.Plain()
		if err != nil {
			return nil, err
		}
		return p, nil
	}
	if k := i.file.TakeKept(i.contents, tap); k != nil {
		return k, nil
	}
	s, err := i.file.Unpack(i.contents, tap)
	if err != nil {
		return nil, err
	}
	return s, nil
}

// Arriving is a source that is read while it arrives, and from then on from another one with the same bytes.
func Arriving(first Source, then func() (Source, error)) Source {
	return &arriving{Source: first, then: then}
}

type arriving struct {
	Source
	then   func() (Source, error)
	opened bool
}

// Open is called by one goroutine at a time.
func (a *arriving) Open(tap io.Writer) (Stream, error) {
	if !a.opened {
		a.opened = true
		return a.Source.Open(tap)
	}
	again, err := a.then()
	if err != nil {
		return nil, err
	}
	return again.Open(tap)
}

// Inspect looks at a card that has been read back right and has no partition table yet, and says how many bytes it
// read. Its error leaves the card as it is then.
type Inspect func(ctx context.Context, d card.Device, m *meter.Meter) (bytes int64, err error)

// inspect does that, as a phase of its own.
func (r *run) inspect(ctx context.Context) error {
	if r.job.Inspect == nil {
		return nil
	}
	return r.phase(meter.Files, func() (int64, error) { return r.job.Inspect(ctx, r.dev, r.meter) })
}
