package card

import "context"

// Pool is a fixed number of buffers, aligned as direct access to any device needs it. It bounds the
// memory of a job, and holds back who fills them until they have been used.
type Pool struct {
	free chan []byte
	all  [][]byte
}

// NewPool makes n buffers of size bytes each; size is a multiple of 4096.
func NewPool(n, size int) (*Pool, error) {
	p := &Pool{free: make(chan []byte, n)}
	for range n {
		b, err := alignedBuffer(size)
		if err != nil {
			p.Close()
			return nil, err
		}
		p.all = append(p.all, b)
		p.free <- b
	}
	return p, nil
}

// Get waits for a buffer. The error is the cause of ctx's end.
func (p *Pool) Get(ctx context.Context) ([]byte, error) {
	select {
	case b := <-p.free:
		return b, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// Put gives a buffer back; the caller may not touch it any more.
func (p *Pool) Put(b []byte) { p.free <- b[:cap(b)] }

// Close frees all buffers, those that were not given back too.
func (p *Pool) Close() {
	for _, b := range p.all {
		freeBuffer(b)
	}
	p.all = nil
}
