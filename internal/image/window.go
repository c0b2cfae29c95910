package image

import (
	"errors"
	"io"
	"slices"
)

// Window reads anywhere in an image while it is packed, unpacking no more than it must: of a raw image what is asked
// for, of a file with blocks those that hold it, of any other what lies before. It keeps what it has unpacked last. One
// goroutine may use it.
type Window struct {
	file     *File
	contents Contents

	pages map[int64][]byte // by number
	kept  []int64          // their numbers, the oldest first
	at    int64            // number of the page that in gives next
	in    io.ReadCloser    // nil before the first read
	read  int64            // bytes of the packed file, of all streams so far but the last
	tell  func() int64     // likewise, of the last
}

const (
	pageSize  = 1 << 20
	pagesKept = 64
)

// Window opens a window on the contents c.
func (f *File) Window(c Contents) *Window {
	return &Window{file: f, contents: c, pages: map[int64][]byte{}, tell: func() int64 { return 0 }}
}

// Used is how many bytes of the packed file were read.
func (w *Window) Used() int64 { return w.read + w.tell() }

// Close ends the unpacking.
func (w *Window) Close() error {
	if w.in == nil {
		return nil
	}
	w.read, w.tell = w.Used(), func() int64 { return 0 }
	err := w.in.Close()
	w.in = nil
	return err
}

// ReadAt is that of io.ReaderAt. Errors are those of Stream.Read.
func (w *Window) ReadAt(p []byte, off int64) (int, error) {
	if w.contents.Packing == RawPacking && !w.file.once {
		w.read += int64(len(p))
		return w.file.file.ReadAt(p, off)
	}
	n := 0
	for n < len(p) {
		page, err := w.page((off + int64(n)) / pageSize)
		from := (off + int64(n)) % pageSize
		if from < int64(len(page)) {
			n += copy(p[n:], page[from:])
		}
		switch {
		case err != nil:
			return n, err
		case int64(len(page)) < pageSize && n < len(p):
			return n, io.EOF
		}
	}
	return n, nil
}

// page unpacks up to a page, which is short at the image's end.
func (w *Window) page(number int64) ([]byte, error) {
	if p, kept := w.pages[number]; kept {
		return p, nil
	}
	if err := w.approach(number); err != nil {
		return nil, err
	}
	for {
		p, err := w.nextPage()
		if err != nil {
			return nil, err
		}
		if w.at-1 == number || len(p) < pageSize {
			if w.at-1 != number {
				return nil, nil
			}
			return p, nil
		}
	}
}

// approach opens a stream that gives the page, or pages before it, unless the one that is open will.
func (w *Window) approach(number int64) error {
	off := number * pageSize
	if index := w.contents.blocks; index != nil && w.contents.Packing == w.file.Packing() && !w.file.once {
		if block, start, ok := index.Find(off); ok && (w.in == nil || w.at > number || start > w.at*pageSize) {
			return w.openBlock(index, block, start)
		}
	}
	if w.in != nil && w.at <= number {
		return nil
	}
	if w.in != nil && w.file.once {
		return errors.New("what comes through a pipe can't be read twice")
	}
	w.Close()
	s, err := w.file.Unpack(w.unbounded(), nil)
	if err != nil {
		return err
	}
	w.in, w.at, w.tell = s, 0, s.Position
	return nil
}

// unbounded is the contents without the size that they claim: no more than a part of them is unpacked.
func (w *Window) unbounded() Contents {
	c := w.contents
	c.Size = Size{}
	return c
}

// openBlock starts with the first page that starts in a block.
func (w *Window) openBlock(index blockIndex, block int, start int64) error {
	w.Close()
	in := &blocks{file: w.file, index: index, next: block, from: countedAt{ReaderAt: w.file.file}}
	w.in, w.tell, w.at = in, in.used, (start+pageSize-1)/pageSize
	_, err := io.CopyN(io.Discard, in, w.at*pageSize-start)
	if err != nil {
		return w.file.name(err, w.contents.Packing, 0)
	}
	return nil
}

func (w *Window) nextPage() ([]byte, error) {
	p := make([]byte, pageSize)
	n, err := io.ReadFull(w.in, p)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, w.file.name(err, w.contents.Packing, 0)
	}
	p = p[:n]
	if !slices.ContainsFunc(p, func(b byte) bool { return b != 0 }) {
		p = zeroPage[:n]
	}
	if len(w.kept) == pagesKept {
		delete(w.pages, w.kept[0])
		w.kept = w.kept[1:]
	}
	w.pages[w.at] = p
	w.kept = append(w.kept, w.at)
	w.at++
	return p, nil
}

var zeroPage [pageSize]byte

// blocks reads the blocks of a packed file from one on.
type blocks struct {
	file  *File
	index blockIndex
	next  int
	in    io.ReadCloser
	from  countedAt
}

// countedAt counts what is read.
type countedAt struct {
	io.ReaderAt
	n int64
}

func (c *countedAt) ReadAt(p []byte, at int64) (int, error) {
	n, err := c.ReaderAt.ReadAt(p, at)
	c.n += int64(n)
	return n, err
}

func (b *blocks) used() int64 { return b.from.n }

func (b *blocks) Read(p []byte) (int, error) {
	for {
		if b.in == nil {
			if int64(b.next) >= b.index.Count() {
				return 0, io.EOF
			}
			b.in = b.index.Open(&b.from, b.next)
			b.next++
		}
		n, err := b.in.Read(p)
		if n > 0 || err != io.EOF {
			return n, err
		}
		b.in.Close()
		b.in = nil
	}
}

func (b *blocks) Close() error {
	if b.in != nil {
		return b.in.Close()
	}
	return nil
}
