package publisher

import (
	"compress/gzip"
	"io"
	"net/http"
	"strconv"
	"time"
)

// counted counts what is sent, sends no faster than it may, and breaks off.
type counted struct {
	http.ResponseWriter
	host   *Host
	status int
	sent   int64

	rate  int64
	start time.Time
	cut   int64
	stall int64
	gone  <-chan struct{} // when the other side has gone
}

func (c *counted) WriteHeader(status int) {
	c.status = status
	c.ResponseWriter.WriteHeader(status)
}

// piece is how much is sent at once, bytes.
const piece = 16 << 10

func (c *counted) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		part := p[:min(len(p), piece)]
		if c.cut > 0 && c.sent+int64(len(part)) > c.cut {
			part = part[:c.cut-c.sent]
		}
		if c.stall > 0 && c.sent >= c.stall {
			c.flush()
			<-c.gone
			panic(http.ErrAbortHandler)
		}
		wrote, err := c.ResponseWriter.Write(part)
		n, c.sent = n+wrote, c.sent+int64(wrote)
		c.host.Sent.Add(int64(wrote))
		if err != nil {
			return n, err
		}
		if c.cut > 0 && c.sent >= c.cut {
			c.flush()
			panic(http.ErrAbortHandler) // the connection breaks
		}
		p = p[wrote:]
		if c.rate > 0 {
			due := c.start.Add(time.Duration(float64(c.sent) / float64(c.rate) * float64(time.Second)))
			time.Sleep(time.Until(due))
		}
	}
	return n, nil
}

func (c *counted) flush() { _ = http.NewResponseController(c.ResponseWriter).Flush() }

// altered is a file of which some bytes are others.
type altered struct {
	io.ReadSeeker
	size  int64
	at    int64
	flip  int64 // 0: none
	other bool  // all are
}

func (a *altered) Read(p []byte) (int, error) {
	n, err := a.ReadSeeker.Read(p)
	for i := range p[:n] {
		if a.other || a.flip > 0 && a.at+int64(i) == a.flip {
			p[i] ^= 0x20
		}
	}
	a.at += int64(n)
	return n, err
}

func (a *altered) Seek(offset int64, whence int) (int64, error) {
	at, err := a.ReadSeeker.Seek(offset, whence)
	a.at = at
	return at, err
}

// pack sends a file packed.
func (h *Host) pack(out *counted, body io.Reader) {
	out.Header().Set("Content-Encoding", "gzip")
	z := gzip.NewWriter(out)
	_, _ = io.Copy(z, body)
	_ = z.Close()
}

// wrongLength promises more or fewer bytes than there are.
func wrongLength(out *counted, body io.Reader, size, more int64) {
	said := max(size+more, 0)
	out.Header().Set("Content-Length", strconv.FormatInt(said, 10))
	out.WriteHeader(http.StatusOK)
	_, _ = io.Copy(out, io.LimitReader(body, said))
	if more > 0 {
		out.flush()
		panic(http.ErrAbortHandler)
	}
}
