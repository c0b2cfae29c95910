package image

import (
	"errors"
	"io"
	"runtime"
	"time"
)

// Member is a file in an archive, or something else that has a name there.
type Member struct {
	Name     string // as it stands in the archive, with slashes
	Kind     MemberKind
	Size     int64     // of a file, bytes
	Modified time.Time // zero if the archive doesn't say
}

// MemberKind is what has a name in an archive.
type MemberKind uint8

// The kinds.
const (
	MemberFile MemberKind = iota
	MemberFolder
	MemberLink    // to another name
	MemberSpecial // a device, a pipe
)

// Members goes through what is in an archive, in its order. It is read once, from its start to its end, where that is
// how it is packed.
type Members struct {
	file    *File
	packing string
	packed  *packedReader
	stack   *stack // of an archive that is read as a stream; nil otherwise
	walker  walker
	body    io.Reader // of the member that Next gave last
	name    string    // its own
	count   int
	bytes   int64
	err     error
}

// walker goes through the members of an archive of one packing. What it gives to read a member need not be read, and
// checks at its end what the archive can check.
type walker interface {
	next() (Member, io.Reader, error) // io.EOF: there are no more
}

// Members starts to go through the archive that the file is. All bytes of the file go through tap by the time that Next
// says io.EOF; tap may be nil. The error is a *DamageError or *UnusableError, or one of reading; so are those of Next
// and Read.
func (f *File) Members(tap io.Writer) (*Members, error) {
	m := &Members{file: f, packing: f.Packing(), packed: newPackedReader(f, tap)}
	if f.Size == 0 && !f.once {
		return nil, &UnusableError{Path: f.Path, Why: Empty}
	}
	if err := m.open(); err != nil {
		m.Close()
		return nil, m.damage(err)
	}
	return m, nil
}

func (m *Members) open() (err error) {
	f, p := m.file, m.file.packing()
	if p.members != nil {
		if f.once {
			return &UnusableError{Why: NeedsFile, Packing: p.name}
		}
		m.walker, err = p.members(m.packed)
		return err
	}
	set := setting{path: f.Path, lanes: runtime.GOMAXPROCS(0), limit: f.limit()}
	if p.walk != nil {
		m.walker = p.walk(m.packed.Reader)
		return nil
	}
	if p.unpack == nil || p.name == RawPacking {
		return &UnusableError{Why: NoArchive}
	}
	start := func(r *packedReader, s setting) (*layer, error) { return p.unpack(r.Reader, s) }
	if p.look != nil && !f.once {
		c, err := p.look(f, "")
		if err != nil {
			return err
		}
		if c.start != nil {
			start = c.start
		}
	}
	first, err := start(m.packed, set)
	if err != nil {
		return err
	}
	m.stack = &stack{}
	m.stack.push(first, p.name, set)
	for {
		out := m.stack.out()
		head, err := out.Peek(headSize)
		if err != nil && err != io.EOF {
			return err
		}
		switch p = packingOf(head); {
		case p.walk != nil:
			m.walker, m.packing = p.walk(out), p.name+" in "+m.stack.packing()
			return nil
		case p.unpack == nil || p.name == RawPacking || len(m.stack.layers) == layersMax:
			if _, err := io.Copy(io.Discard, out); err != nil {
				return err // it was damaged, and may have been one
			}
			return &UnusableError{Why: NoArchive}
		}
		next, err := p.unpack(out, set)
		if err != nil {
			return err
		}
		m.stack.push(next, p.name, set)
	}
}

// Packing names all layers of the archive, the innermost first.
func (m *Members) Packing() string { return m.packing }

// Next goes on to the next member. io.EOF says that there are no more, and that the file was read to its end.
func (m *Members) Next() (Member, error) {
	if m.err != nil {
		return Member{}, m.err
	}
	next, body, err := m.walker.next()
	switch {
	case err == io.EOF:
		if err = m.finish(); err == nil {
			m.err = io.EOF
			return Member{}, io.EOF
		}
	case err != nil:
	case m.count == membersMax:
		err = tooManyMembers(m.file.Path)
	case next.Size < 0 || next.Size > m.file.limit()-m.bytes:
		err = tooMuch(m.file.Path, m.file.limit())
	default:
		m.count, m.body, m.name, m.bytes = m.count+1, body, next.Name, m.bytes+next.Size
		return next, nil
	}
	m.err = m.damage(err)
	return Member{}, m.err
}

// Read reads the member that Next gave last. At its end, io.EOF says that it is as the archive says.
func (m *Members) Read(p []byte) (int, error) {
	if m.err != nil {
		return 0, m.err
	}
	n, err := m.body.Read(p)
	if err != nil && err != io.EOF {
		m.err = m.damage(err)
		var damage *DamageError
		if errors.As(m.err, &damage) {
			damage.Member = m.name
		}
		err = m.err
	}
	return n, err
}

// HasDirectory tells whether the file is an archive that lists its members in one place, so that it needn't be read for
// that.
func (f *File) HasDirectory() bool { return f.packing().members != nil }

// finish reads what is left of the file, and of what it is packed in.
func (m *Members) finish() error {
	if m.file.HasDirectory() && m.packed.tap == nil {
		return nil
	}
	if m.stack != nil {
		if _, err := io.Copy(io.Discard, m.stack.out()); err != nil {
			return err
		}
		if err := m.stack.finish(); err != nil {
			return err
		}
	}
	_, err := io.Copy(io.Discard, m.packed)
	return err
}

// damage says where it failed.
func (m *Members) damage(err error) error {
	return m.file.damage(err, m.packing, max(m.packed.Position(), m.packed.far.Load()))
}

// Position is how many bytes of the file have been used. It may be called while another goroutine reads.
func (m *Members) Position() int64 { return max(m.packed.raw.count.Load(), m.packed.far.Load()) }

// Close ends it; not all need have been read.
func (m *Members) Close() error {
	if c, ok := m.walker.(io.Closer); ok {
		c.Close()
	}
	if m.stack != nil {
		return m.stack.Close()
	}
	return nil
}

// lazyBody opens a member when it is first read, since most are gone past when an archive is listed.
type lazyBody struct {
	open func() (io.ReadCloser, error)
	body io.ReadCloser
	err  error
}

func (l *lazyBody) Read(p []byte) (int, error) {
	if l.body == nil && l.err == nil {
		l.body, l.err = l.open()
		l.err = early(l.err) // what ends before it begins is no empty member
	}
	if l.err != nil {
		return 0, l.err
	}
	n, err := l.body.Read(p)
	l.err = err
	return n, err
}

// Close ends the reading.
func (l *lazyBody) Close() error {
	if l.body == nil {
		return nil
	}
	l.err = io.ErrClosedPipe
	return l.body.Close()
}

// directory walks through members whose list is known beforehand.
type directory struct {
	members []Member
	open    func(i int) (io.ReadCloser, error)
	at      int
	last    *lazyBody
}

func (d *directory) next() (Member, io.Reader, error) {
	if d.last != nil {
		d.last.Close() // what it was read to, its reader has said
	}
	if d.at == len(d.members) {
		return Member{}, nil, io.EOF
	}
	i := d.at
	d.at++
	d.last = &lazyBody{open: func() (io.ReadCloser, error) { return d.open(i) }}
	return d.members[i], d.last, nil
}

func (d *directory) Close() error {
	if d.last == nil {
		return nil
	}
	return d.last.Close()
}
