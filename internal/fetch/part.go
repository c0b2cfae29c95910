package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"zipstamp/internal/digest"
)

// PieceSize is the length of the pieces in which a download is kept: what of it is whole is known by their digests,
// also after the program was killed or the power was cut. Bytes.
const PieceSize = 1 << 20

// Part is a download on its way: bytes from its start on, and the digests of the pieces that are whole. It can be read
// while it grows.
type Part struct {
	ctx        context.Context
	data, sums *os.File
	piece      []byte // the last one, as far as it has come
	hash       *digest.Hasher
	algorithms []digest.Algorithm

	mu   sync.Mutex // guards what follows
	grew *sync.Cond
	kept int64 // bytes that are in the file
	safe int64 // bytes that may be read: nothing will come in their place
	held int64 // of a file with digests of its parts: nothing behind it may be read yet; -1: there are none
	lost int   // how often what was there before was given up
	end  error // io.EOF: it is whole; else why nothing more comes
}

// OpenPart takes up what is in two files, for reading and writing: the bytes, and the digests of their pieces. What
// doesn't agree is cut off. had is how many bytes are left. When ctx ends, so does this, and what else takes long.
func OpenPart(
	ctx context.Context, data, sums *os.File, algorithms ...digest.Algorithm,
) (p *Part, had int64, err error) {
	p = &Part{
		ctx: ctx, data: data, sums: sums, piece: make([]byte, 0, PieceSize), algorithms: algorithms, held: -1,
		hash: digest.NewHasher(algorithms...),
	}
	p.grew = sync.NewCond(&p.mu)
	buf := make([]byte, PieceSize)
	var want digest.Block
	for {
		if ctx.Err() != nil {
			return nil, 0, context.Cause(ctx)
		}
		at := p.kept / PieceSize
		if n, err := sums.ReadAt(want[:], at*int64(len(want))); n < len(want) {
			if err != nil && err != io.EOF {
				return nil, 0, err
			}
			break
		}
		n, err := data.ReadAt(buf, p.kept)
		if err != nil && err != io.EOF {
			return nil, 0, err
		}
		if digest.SumBlock(buf[:n]) != want {
			break
		}
		if n < len(buf) { // the last one, of a run that ended in good order
			p.piece = append(p.piece, buf[:n]...)
			break
		}
		p.hash.Write(buf)
		p.kept += PieceSize
	}
	p.safe = p.kept
	return p, p.Size(), p.cut()
}

// cut removes what is behind what counts.
func (p *Part) cut() error {
	pieces := p.kept / PieceSize
	return errors.Join(p.data.Truncate(p.kept), p.sums.Truncate(pieces*int64(len(digest.Block{}))))
}

// Size is how many bytes there are.
func (p *Part) Size() int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.kept + int64(len(p.piece))
}

// Lost counts how often all that was there was given up, since another file came.
func (p *Part) Lost() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.lost
}

// Write adds bytes.
func (p *Part) Write(b []byte) (n int, err error) {
	for len(b) > 0 {
		p.mu.Lock()
		take := min(len(b), PieceSize-len(p.piece))
		p.piece = append(p.piece, b[:take]...)
		full := len(p.piece) == PieceSize
		p.mu.Unlock()
		n, b = n+take, b[take:]
		if full {
			if err := p.keep(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// keep writes the last piece into the file.
func (p *Part) keep() error {
	whole := len(p.piece) == PieceSize
	if _, err := p.data.WriteAt(p.piece, p.kept); err != nil {
		return err
	}
	if whole {
		sum := digest.SumBlock(p.piece)
		if _, err := p.sums.WriteAt(sum[:], p.kept/PieceSize*int64(len(sum))); err != nil {
			return err
		}
	}
	p.hash.Write(p.piece)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.kept += int64(len(p.piece))
	p.piece = p.piece[:0]
	p.release()
	return nil
}

// release lets readers at what may be read. The caller holds the lock.
func (p *Part) release() {
	p.safe = p.kept
	if p.held >= 0 {
		p.safe = min(p.kept, p.held)
	}
	p.grew.Broadcast()
}

// hold keeps readers from what is behind a place, until it is moved on; at the start before anything is read.
func (p *Part) hold(at int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.held = at
	p.release()
}

// flush keeps the last piece as far as it has come, as at the end.
func (p *Part) flush() error {
	if len(p.piece) == 0 {
		return nil
	}
	sum := digest.SumBlock(p.piece)
	_, err := p.data.WriteAt(p.piece, p.kept)
	if err == nil {
		_, err = p.sums.WriteAt(sum[:], p.kept/PieceSize*int64(len(sum)))
	}
	return err
}

// begin begins anew, in other files.
func (p *Part) begin(data, sums *os.File) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.safe > 0 {
		p.lost++
	}
	p.data, p.sums, p.hash = data, sums, digest.NewHasher(p.algorithms...)
	p.kept, p.safe, p.piece = 0, 0, p.piece[:0]
	p.grew.Broadcast()
}

// back gives up what is behind a place. What was there before it is digested again.
func (p *Part) back(to int64) error {
	switch {
	case to >= p.Size():
		return nil
	case to >= p.kept: // nobody has read any of that
		p.mu.Lock()
		defer p.mu.Unlock()
		p.piece = p.piece[:to-p.kept]
		return nil
	}
	start := to - to%PieceSize
	rest := make([]byte, to-start, PieceSize)
	if _, err := p.data.ReadAt(rest, start); err != nil {
		return err
	}
	p.hash = digest.NewHasher(p.algorithms...)
	if err := p.digests(p.hash, 0, start); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if to < p.safe {
		p.lost++
	}
	p.kept, p.piece = start, rest
	p.safe = min(p.safe, start)
	p.grew.Broadcast()
	return p.cut()
}

// reads reads what is there already, for comparison, wherever it is.
func (p *Part) reads(b []byte, at int64) error {
	p.mu.Lock()
	kept := p.kept
	p.mu.Unlock()
	n := 0
	if at < kept {
		n = int(min(int64(len(b)), kept-at))
		if _, err := p.data.ReadAt(b[:n], at); err != nil {
			return err
		}
	}
	if n < len(b) {
		copy(b[n:], p.piece[at+int64(n)-kept:])
	}
	return nil
}

// digests feeds what is there already to a hash, from one place to another: a piece of a host's may be of any length.
func (p *Part) digests(sum io.Writer, from, to int64) error {
	buf := make([]byte, min(to-from, PieceSize))
	for ; from < to; from += int64(len(buf)) {
		if p.ctx.Err() != nil {
			return context.Cause(p.ctx)
		}
		buf = buf[:min(int64(len(buf)), to-from)]
		if err := p.reads(buf, from); err != nil {
			return err
		}
		if _, err := sum.Write(buf); err != nil {
			return err
		}
	}
	return nil
}

// finish says that all has come. The digests are those of all bytes.
func (p *Part) finish() ([]digest.Digest, error) {
	if len(p.piece) > 0 {
		if err := p.keep(); err != nil {
			return nil, err
		}
	}
	if err := p.data.Truncate(p.kept); err != nil { // room that was taken and isn't needed
		return nil, err
	}
	if err := p.data.Sync(); err != nil {
		return nil, err
	}
	return p.hash.Digests(), nil
}

// close ends it for those who read: io.EOF if it is whole, or else the reason; then the last piece is kept as far as it
// has come.
func (p *Part) close(end error) {
	if end != io.EOF {
		_ = p.flush() // what isn't kept is fetched again
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.end = end
	if end == io.EOF {
		p.safe = p.kept
	}
	p.grew.Broadcast()
}

// ErrOtherFile says to who reads a download while it arrives that another file has come in its place.
var ErrOtherFile = errors.New("the file changed while it was downloaded")

// Reader reads the download from its start on, and waits for what has not come yet.
func (p *Part) Reader(ctx context.Context) io.Reader {
	r := &partReader{Part: p, ctx: ctx, lost: p.Lost()}
	context.AfterFunc(ctx, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.grew.Broadcast()
	})
	return r
}

type partReader struct {
	*Part
	ctx  context.Context
	at   int64
	lost int
}

func (r *partReader) Read(b []byte) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	r.mu.Lock()
	for r.at >= r.safe && r.end == nil && r.Part.lost == r.lost && r.ctx.Err() == nil {
		r.grew.Wait()
	}
	data, safe, end, lost := r.data, r.safe, r.end, r.Part.lost != r.lost
	r.mu.Unlock()
	switch {
	case r.ctx.Err() != nil:
		return 0, context.Cause(r.ctx)
	case lost:
		return 0, ErrOtherFile
	case r.at >= safe && end != nil:
		if e := (*Error)(nil); errors.As(end, &e) { // no end of a file that a decoder could take for its own
			bare := *e
			bare.Err = nil
			return 0, &bare
		}
		return 0, end
	}
	n, err := data.ReadAt(b[:min(int64(len(b)), safe-r.at)], r.at)
	r.at += int64(n)
	if n > 0 {
		return n, nil
	}
	return 0, fmt.Errorf("read what was downloaded: %w", err)
}
