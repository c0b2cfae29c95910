package digest

import "io"

// Aside writes to another writer from a goroutine of its own, so that digests are computed beside the
// work that gives the bytes. Close must be called; it waits until all is written. The other writer must
// not fail, as hashes never do.
type Aside struct {
	full, free chan []byte
	done       chan struct{}
	made       int // pieces
}

// Pieces of an Aside: how many there may be, and how long each is, bytes. One that is made for little is shorter.
const (
	asidePieces = 4
	asideSize   = 1 << 20
	asideLeast  = 32 << 10
)

// NewAside starts the goroutine, which ends at Close.
func NewAside(w io.Writer) *Aside {
	a := &Aside{
		full: make(chan []byte, asidePieces), free: make(chan []byte, asidePieces), done: make(chan struct{}),
	}
	go func() {
		defer close(a.done)
		for p := range a.full {
			_, _ = w.Write(p)
			a.free <- p
		}
	}()
	return a
}

// Write copies p and returns, or waits while the goroutine is behind. It never fails.
func (a *Aside) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		piece := a.piece(len(p))
		piece = append(piece[:0], p[:min(len(p), cap(piece))]...)
		p = p[len(piece):]
		a.full <- piece
	}
	return n, nil
}

// piece is a free one, which is made as long as there may be more.
func (a *Aside) piece(n int) []byte {
	select {
	case piece := <-a.free:
		return piece
	default:
	}
	if a.made == asidePieces {
		return <-a.free
	}
	a.made++
	return make([]byte, 0, min(max(n, asideLeast), asideSize))
}

// Close waits until everything has been written, and ends the goroutine.
func (a *Aside) Close() error {
	close(a.full)
	<-a.done
	return nil
}
