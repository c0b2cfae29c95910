package image

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"math"
	"slices"
	"strings"

	"zipstamp/internal/layout"
)

// layersMax bounds how deep packings may be nested: an image, sparse, in a compressed archive, in another.
const layersMax = 4

// stack is all layers of a file at work: what comes out of one goes into the next, and the last gives the image.
type stack struct {
	layers     []*layer
	names      []string        // of the packings, the outermost first
	outs       []*bufio.Reader // what comes out of each
	head       []byte          // of the image
	recognised bool            // the image starts with a partition table or file system
}

// imageMin is the least that an image can have, bytes: a sector.
const imageMin = 512

// headRoom is the size of a stack's buffers: they hold the head, to know what it is.
const headRoom = 128 << 10

// descend goes from a layer, unpacked by the packing named, down to the image. An error of the layers' own is as they
// give it; an *UnusableError says what is there in place of an image. The stack is closed then.
func descend(first *layer, name string, s setting) (*stack, error) {
	st := &stack{}
	st.push(first, name, s)
	if err := st.descend(s); err != nil {
		st.Close()
		return nil, err
	}
	return st, nil
}

func (st *stack) descend(s setting) error {
	for {
		out := st.out()
		head, err := out.Peek(min(headSize, out.Size()))
		if err != nil && err != io.EOF {
			return err
		}
		if len(head) == 0 && !s.any {
			return &UnusableError{Path: s.path, Why: HoldsNothing}
		}
		st.head, st.recognised = slices.Clone(head), isDisk(head)
		p := packingOf(head)
		// of anything, what is in it may look like a packing by chance
		if st.recognised || p.unpack == nil || p.name == RawPacking || s.any {
			break
		}
		if len(st.layers) == layersMax {
			return &UnusableError{Path: s.path, Why: PackedTooOften, Count: layersMax}
		}
		inner := s
		if st.member() != "" {
			inner.member = "" // the outer archive had what was asked for
		}
		next, err := p.unpack(out, inner)
		if err != nil {
			return err
		}
		st.push(next, p.name, inner)
	}
	if s.any {
		return nil
	}
	if other := strangerOf(st.head); other.Kind != "" {
		return &UnusableError{Path: s.path, Why: HoldsOther, Other: other}
	}
	if len(st.head) < imageMin {
		return &UnusableError{Path: s.path, Why: HoldsLittle, Bytes: int64(len(st.head))}
	}
	return nil
}

func (st *stack) push(l *layer, name string, s setting) {
	st.layers = append(st.layers, l)
	st.names = append(st.names, name)
	room := headRoom
	if l.most > 0 {
		room = min(room, l.most+1) // so that its end is seen
	}
	st.outs = append(st.outs, bufio.NewReaderSize(&limited{
		r: l, left: s.limit + min(math.MaxInt64-s.limit, s.limit/2+1<<30), setting: s,
	}, room))
}

func (st *stack) out() *bufio.Reader { return st.outs[len(st.outs)-1] }

// packing names all layers, the innermost first.
func (st *stack) packing() string {
	names := slices.Clone(st.names)
	slices.Reverse(names)
	return strings.Join(names, " in ")
}

// member is the image's name in the innermost archive.
func (st *stack) member() string {
	for i := len(st.layers) - 1; i >= 0; i-- {
		if m := st.layers[i].member; m != "" {
			return m
		}
	}
	return ""
}

func (st *stack) size() Size { return st.layers[len(st.layers)-1].size }

// unchecked tells that no layer would notice damage.
func (st *stack) unchecked() bool {
	for _, l := range st.layers {
		if !l.unchecked {
			return false
		}
	}
	return true
}

// finish reads what outer layers have behind the image, so that their own checks are made.
func (st *stack) finish() error {
	for i := len(st.outs) - 2; i >= 0; i-- {
		if _, err := io.Copy(io.Discard, st.outs[i]); err != nil {
			return err
		}
	}
	return nil
}

// Close ends all layers, the innermost first: each may still be reading from the one before it.
func (st *stack) Close() error {
	for i := len(st.layers) - 1; i >= 0; i-- {
		st.layers[i].Close()
	}
	return nil
}

// limited ends a stream that goes on and on. It leaves room for what an archive has beside the image; Stream is exact.
type limited struct {
	r    io.Reader
	left int64
	setting
}

func (l *limited) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	l.left -= int64(n)
	if l.left < 0 {
		return 0, tooMuch(l.path, l.limit)
	}
	return n, err
}

func tooMuch(path string, limit int64) *UnusableError {
	return &UnusableError{Path: path, Why: UnpacksToMuch, Most: limit}
}

// probed is what the start of a member, perhaps packed itself, shows.
type probed uint8

const (
	unknown probed = iota // it may be an image, or not
	noImageAtAll
	fileSystem // an image without a partition table
	wholeDisk
)

func probe(start []byte, s setting) probed {
	s.lanes, s.member = 1, ""
	first := plainLayer(bytes.NewReader(start), Size{})
	first.most = len(start)
	st, err := descend(first, RawPacking, s)
	switch {
	case errors.As(err, new(*UnusableError)):
		return noImageAtAll
	case err != nil: // it may still be one: its start was too short to tell
		return unknown
	}
	defer st.Close()
	switch {
	case layout.HasTable(st.head):
		return wholeDisk
	case st.recognised:
		return fileSystem
	}
	return unknown
}

// probeSize is how much of a member's start is looked at: enough to unpack the first bytes of it by any packing.
const probeSize = 1 << 20
