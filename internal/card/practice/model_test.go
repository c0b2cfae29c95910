package practice

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"pgregory.net/rapid"
)

// model is a practice card said in the plainest way: a slice of sectors, and the last bytes written.
type model struct {
	spec   Spec
	held   []byte
	lazy   []int64 // sectors that a lazy card keeps, the first kept first
	last   []byte
	recent []written // oldest first
}

type written struct {
	at   int64
	data byte
}

// place is where an address is held; -1 where it isn't.
func (m *model) place(at int64) int64 {
	real, claimed := int64(m.spec.Real), int64(m.spec.Claimed)
	switch m.spec.Beyond {
	case Lazy, Oldest:
		if slices.Contains(m.lazy, at/512) {
			return at
		}
		return -1
	case Ends:
		head := real / 1024 * 512
		switch {
		case at < head:
			return at
		case at >= claimed-(real-head):
			return at - (claimed - real)
		}
		return -1
	case Wrap:
		return at % real
	}
	if at < real {
		return at
	}
	return -1
}

func (m *model) write(p []byte, off int64) {
	for i, b := range p {
		m.recent = append(m.recent, written{off + int64(i), b})
	}
	forgotten := m.recent[:max(0, len(m.recent)-int(m.spec.Cache))]
	m.recent = m.recent[len(forgotten):]
	if !m.spec.WriteBack {
		m.last = p
		forgotten = nil
		for i, b := range p {
			forgotten = append(forgotten, written{off + int64(i), b})
		}
	}
	for _, w := range forgotten {
		m.store(w.at, w.data)
	}
}

func (m *model) store(at int64, b byte) {
	if s := at / 512; m.spec.keepsAnywhere() && !slices.Contains(m.lazy, s) {
		switch full := len(m.lazy) == int(m.spec.Real)/512; {
		case full && m.spec.Beyond == Oldest:
			m.lazy = append(m.lazy[1:], s)
		case !full:
			m.lazy = append(m.lazy, s)
		}
	}
	if place := m.place(at); place >= 0 {
		m.held[place] = b
	}
}

func (m *model) read(n int, off int64) []byte {
	p := make([]byte, n)
	for i := range p {
		at := off + int64(i)
		switch place := m.place(at); {
		case place >= 0:
			p[i] = m.held[place]
		case m.spec.Reads == FF:
			p[i] = 0xFF
		case m.spec.Reads == Last && len(m.last) > 0:
			start := off // of the stretch that is dropped
			for at := at; at >= off && m.place(at) < 0; at-- {
				start = at
			}
			p[i] = m.last[(at-start)%int64(len(m.last))]
		}
	}
	for _, w := range m.recent {
		if w.at >= off && w.at < off+int64(n) {
			p[w.at-off] = w.data
		}
	}
	return p
}

// TestCardDoesWhatTheModelDoes holds for any card without faults, and any order of reads and writes.
func TestCardDoesWhatTheModelDoes(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		const most = 24
		claimed := rapid.Int64Range(1, most).Draw(t, "claimed")
		spec := Spec{
			Version: Version, Backing: filepath.Join(dir, "data"), Claimed: Size(claimed * 512),
			Real:   Size(rapid.Int64Range(1, claimed).Draw(t, "real") * 512),
			Beyond: rapid.SampledFrom([]Beyond{Wrap, Drop, Lazy, Oldest, Ends}).Draw(t, "beyond"),
			Reads:  rapid.SampledFrom([]Reads{Zeros, FF, Last}).Draw(t, "reads"),
			Cache:  Size(rapid.IntRange(0, 5000).Draw(t, "cache")),
		}
		if spec.Cache >= 512 && spec.Reads != Last && spec.Real < spec.Claimed {
			spec.WriteBack = rapid.Bool().Draw(t, "write back")
		}
		if spec.WriteBack {
			spec.Cache -= spec.Cache % 512
		}
		if err := os.RemoveAll(spec.Backing); err != nil {
			t.Fatal(err)
		}
		c, err := Open(spec)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		m := &model{spec: spec, held: make([]byte, spec.Claimed)}
		for i := range rapid.IntRange(1, 30).Draw(t, "accesses") {
			at := rapid.Int64Range(0, claimed-1).Draw(t, "at")
			n := int(rapid.Int64Range(1, claimed-at).Draw(t, "sectors")) * 512
			if rapid.Bool().Draw(t, "write") {
				p := bytes.Repeat([]byte{byte(i + 1), byte(at)}, n/2)
				if _, err := c.WriteAt(p, at*512); err != nil {
					t.Fatal(err)
				}
				m.write(p, at*512)
				continue
			}
			got := make([]byte, n)
			if _, err := c.ReadAt(got, at*512); err != nil {
				t.Fatal(err)
			}
			if !bytes.Equal(got, m.read(n, at*512)) {
				t.Fatalf("access %d: %d bytes at %d of %+v", i, n, at*512, spec)
			}
		}
	})
}
