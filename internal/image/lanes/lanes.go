// Package lanes unpacks the parts of a stream side by side and delivers them in order. One goroutine feeds it: it reads
// the packed stream, and hands out parts that can be unpacked on their own. What can't be known to be one is unpacked
// by the feeding goroutine itself, piece by piece, which still keeps it apart from whoever reads.
package lanes

import (
	"context"
	"errors"
	"io"
	"sync"

	"golang.org/x/sync/semaphore"
)

// PieceSize is about how many bytes are best given at once.
const PieceSize = 1 << 20

// ahead is how many pieces a part that is unpacked by the feeder may be ahead of the reader.
const ahead = 4

// Part is a part of a stream.
type Part struct {
	Work func(*Out) error // unpacks the part
	Pass func(p []byte)   // sees each piece in order, on the reader's side; may be nil
	Done func() error     // is called there after the last piece of a part that was unpacked whole; may be nil
}

// Reader delivers what was unpacked. It must be closed.
type Reader struct {
	ctx     context.Context
	cancel  context.CancelFunc
	order   chan *running // closed by the feeder
	work    chan *running // closed by the feeder
	free    chan []byte   // pieces for Out.Write
	memory  int64
	budget  *semaphore.Weighted
	all     sync.WaitGroup
	feedErr error // valid when order is closed

	current *running
	piece   []byte // what is left of the piece being read
	recycle []byte // the whole piece, if it goes back to free
	err     error  // sticky
}

// running is a Part on its way.
type running struct {
	Part
	room   int64
	pieces chan piece // closed when Work is done
	err    error      // valid when pieces is closed
}

type piece struct {
	data   []byte
	pooled bool
}

// New starts feed in a goroutine of its own, and the given number of workers. The parts on their way take
// no more than memory bytes by the feeder's reckoning, and there are no more than one for each worker and one
// besides. An error of feed is delivered after all that was handed out before.
func New(workers int, memory int64, feed func(*Feeder) error) *Reader {
	ctx, cancel := context.WithCancel(context.Background())
	r := &Reader{
		ctx: ctx, cancel: cancel,
		order: make(chan *running, max(workers-1, 1)), work: make(chan *running),
		free:   make(chan []byte, ahead+2),
		memory: memory, budget: semaphore.NewWeighted(memory),
	}
	r.all.Go(func() {
		defer close(r.order)
		defer close(r.work)
		r.feedErr = feed(&Feeder{r})
	})
	for range workers {
		r.all.Go(func() {
			for p := range r.work {
				r.run(p)
			}
		})
	}
	return r
}

func (r *Reader) run(p *running) {
	p.err = p.Work(&Out{r, p.pieces})
	close(p.pieces)
}

// Feeder hands out parts, in order.
type Feeder struct{ r *Reader }

// Beside has a worker unpack a part which takes room bytes of memory until it is delivered, and gives it in
// at most that many pieces. It returns an error when the reader has been closed.
func (f *Feeder) Beside(room int64, pieces int, part Part) error {
	p, err := f.enter(room, pieces, part)
	if err != nil {
		return err
	}
	select {
	case f.r.work <- p:
		return nil
	case <-f.r.ctx.Done():
		p.err = f.r.ctx.Err()
		close(p.pieces)
		return p.err
	}
}

// Here unpacks a part in the feeder's goroutine. The error is that of the part, which has then been delivered.
func (f *Feeder) Here(room int64, part Part) error {
	p, err := f.enter(room, ahead, part)
	if err != nil {
		return err
	}
	f.r.run(p)
	return p.err
}

// Fits tells whether parts of this room leave place for another beside them.
func (f *Feeder) Fits(room int64) bool { return room <= f.r.memory/2 }

func (f *Feeder) enter(room int64, pieces int, part Part) (*running, error) {
	p := &running{part, min(room, f.r.memory), make(chan piece, pieces), nil}
	if err := f.r.budget.Acquire(f.r.ctx, p.room); err != nil {
		return nil, err
	}
	select {
	case f.r.order <- p:
		return p, nil
	case <-f.r.ctx.Done():
		return nil, f.r.ctx.Err()
	}
}

// Out takes what a part unpacks.
type Out struct {
	r      *Reader
	pieces chan piece
}

// Give delivers p, which must not change until the part's Done is called. It returns an error when the reader has been
// closed.
func (o *Out) Give(p []byte) error { return o.send(piece{p, false}) }

// Write delivers a copy of p.
func (o *Out) Write(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		var buf []byte
		select {
		case buf = <-o.r.free:
		default:
			buf = make([]byte, PieceSize)
		}
		size := copy(buf, p[n:])
		if err := o.send(piece{buf[:size], true}); err != nil {
			return n, err
		}
		n += size
	}
	return n, nil
}

func (o *Out) send(p piece) error {
	if o.r.ctx.Err() != nil {
		return o.r.ctx.Err()
	}
	select {
	case o.pieces <- p:
		return nil
	case <-o.r.ctx.Done():
		return o.r.ctx.Err()
	}
}

// Read returns the parts' contents in their order.
func (r *Reader) Read(p []byte) (int, error) {
	for len(r.piece) == 0 {
		if r.err == nil {
			r.err = r.next()
		}
		if r.err != nil {
			return 0, r.err
		}
	}
	n := copy(p, r.piece)
	r.piece = r.piece[n:]
	return n, nil
}

// next goes on to the next piece, or the next part. At the end, or with an error, all goroutines have ended.
func (r *Reader) next() error {
	r.reuse()
	if r.current == nil {
		p, more := <-r.order
		if !more {
			r.all.Wait()
			if r.feedErr != nil {
				return r.feedErr
			}
			return io.EOF
		}
		r.current = p
	}
	piece, more := <-r.current.pieces
	if more {
		r.piece = piece.data
		if piece.pooled {
			r.recycle = piece.data[:cap(piece.data)]
		}
		if r.current.Pass != nil {
			r.current.Pass(piece.data)
		}
		return nil
	}
	done := r.current
	r.current = nil
	err := done.err
	if err == nil && done.Done != nil {
		err = done.Done()
	}
	if err != nil {
		return errors.Join(err, r.Close())
	}
	r.budget.Release(done.room)
	return nil
}

func (r *Reader) reuse() {
	if r.recycle == nil {
		return
	}
	select {
	case r.free <- r.recycle:
	default:
	}
	r.recycle = nil
}

// Close ends all goroutines and waits for them; the stream may not have been read to its end.
func (r *Reader) Close() error {
	r.cancel()
	r.all.Wait()
	return nil
}
