package digest

import "io"

// Aside writes to another writer from a goroutine of its own, so that digests are computed beside the
// work that gives the bytes. Close must be called; it waits until all is written. The other writer must
// not fail, as hashes never do.
type Aside struct {
	full, free chan []byte
	done       chan struct{}
}

// NewAside starts the goroutine, which ends at Close.
func NewAside(w io.Writer) *Aside {
	const pieces, size = 4, 1 << 20
	a := &Aside{make(chan []byte, pieces), make(chan []byte, pieces), make(chan struct{})}
	for range pieces {
		a.free <- make([]byte, 0, size)
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
		piece := <-a.free
		piece = append(piece[:0], p[:min(len(p), cap(piece))]...)
		p = p[len(piece):]
		a.full <- piece
	}
	return n, nil
}

// Close waits until everything has been written, and ends the goroutine.
func (a *Aside) Close() error {
	close(a.full)
	<-a.done
	return nil
}
