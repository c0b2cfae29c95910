package practice

import (
	"bytes"
	"path/filepath"
	"testing"

	"pgregory.net/rapid"
)

// model is a practice card said in the plainest way: a slice of sectors, and the last bytes written.
type model struct {
	spec   Spec
	held   []byte
	recent []written // oldest first
}

type written struct {
	at   int64
	data byte
}

// place is where an address is held; -1 where it isn't.
func (m *model) place(at int64) int64 {
	real := int64(m.spec.Real)
	switch {
	case at < real:
		return at
	case m.spec.Beyond == Wrap:
		return at % real
	}
	return -1
}

func (m *model) write(p []byte, off int64) {
	for i, b := range p {
		at := off + int64(i)
		if place := m.place(at); place >= 0 {
			m.held[place] = b
		}
		m.recent = append(m.recent, written{at, b})
	}
	m.recent = m.recent[max(0, len(m.recent)-int(m.spec.Cache)):]
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
			Beyond: rapid.SampledFrom([]Beyond{Wrap, Drop}).Draw(t, "beyond"),
			Reads:  rapid.SampledFrom([]Reads{Zeros, FF}).Draw(t, "reads"),
			Cache:  Size(rapid.IntRange(0, 5000).Draw(t, "cache")),
		}
		c, err := Open(spec)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		m := &model{spec: spec, held: make([]byte, spec.Real)}
		if err := c.backing.Truncate(0); err != nil {
			t.Fatal(err)
		}
		if err := c.backing.Truncate(int64(spec.Real)); err != nil {
			t.Fatal(err)
		}
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
