// Package publisher is a stand-in for a publisher's host: it serves a folder over HTTP on this computer, and has the
// faults that hosts and networks have.
package publisher

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// ETags are the kinds of marks by which a host tells files apart.
const (
	StrongETag = "strong"
	WeakETag   = "weak"
	NoETag     = "none" // and no time of the last change
)

// ETags are all of them.
var ETags = []string{StrongETag, WeakETag, NoETag}

// Faults are what is wrong with the host. The zero value is a good one. Faults are of files of at least Least bytes, so
// that digests come through.
type Faults struct {
	Rate        int64         // bytes a second; 0: as fast as it goes
	CutAfter    int64         // each answer breaks off after so many bytes; 0: none does
	Cuts        int64         // only the first so many answers do; 0: all
	NoRanges    bool          // only whole files are sent
	ChangeAfter int64         // a file is another one after so many answers; 0: it stays
	WrongLength int64         // so many bytes more are promised than come; below zero: fewer
	SignInPage  bool          // a page comes in place of each file
	StallAfter  int64         // nothing comes any more after so many bytes; 0: all comes
	Stalls      int64         // only the first so many answers stall; 0: all
	ETag        string        // one of ETags; empty: StrongETag
	Status      int           // that is answered in place of the file; 0: none
	Statuses    int64         // only the first so many answers are; 0: all
	RetryAfter  time.Duration // that is asked for with such a status
	Packed      bool          // files are packed on their way (Content-Encoding), whatever is asked for
	Redirect    string        // to which all requests are sent; empty: none is
	WrongPiece  int64         // a byte at this place is another one; 0: all are right
}

// Least is the length from which on a file has faults, bytes.
const Least = 64 << 10

// Served is an answer that has ended.
type Served struct {
	Method, Path, Range string
	Status              int
	Sent                int64
}

// Host serves a folder.
type Host struct {
	Folder string
	Faults Faults
	Told   func(Served) // of each answer; nil: nobody is told

	Sent    atomic.Int64 // bytes of bodies
	mu      sync.Mutex
	answers map[string]int64 // of files with faults, by path
}

// Listen takes a port of this computer; 0 is any that is free.
func Listen(port int) (net.Listener, error) {
	return net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
}

// Serve answers until ctx ends.
func (h *Host) Serve(ctx context.Context, l net.Listener) error {
	s := &http.Server{Handler: h, ReadHeaderTimeout: time.Minute, BaseContext: func(net.Listener) context.Context {
		return ctx
	}}
	stop := context.AfterFunc(ctx, func() { _ = s.Close() })
	defer stop()
	err := s.Serve(l)
	if ctx.Err() != nil && errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// count counts the answers for a path.
func (h *Host) count(path string) int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.answers == nil {
		h.answers = map[string]int64{}
	}
	h.answers[path]++
	return h.answers[path]
}

// ServeHTTP answers.
func (h *Host) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	out := &counted{ResponseWriter: w, host: h}
	defer func() {
		if h.Told != nil {
			h.Told(Served{r.Method, r.URL.Path, r.Header.Get("Range"), max(out.status, http.StatusOK), out.sent})
		}
	}()
	name := filepath.Join(h.Folder, filepath.FromSlash(path.Clean("/"+r.URL.Path)))
	f, err := os.Open(name)
	if err != nil {
		http.NotFound(out, r)
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		http.NotFound(out, r)
		return
	}
	if h.Faults.Redirect != "" {
		http.Redirect(out, r, h.Faults.Redirect, http.StatusFound)
		return
	}
	if info.Size() < Least {
		http.ServeContent(out, r, "", info.ModTime(), f)
		return
	}
	h.serve(out, r, f, info)
}

// serve answers with a file that may have faults.
func (h *Host) serve(out *counted, r *http.Request, f *os.File, info os.FileInfo) {
	n, faults := h.count(r.URL.Path), h.Faults
	within := func(most int64) bool { return most == 0 || n <= most }
	switch {
	case faults.SignInPage:
		out.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(out, "<!DOCTYPE html><html><head><title>Saltmarsh Hotel</title></head><body>Welcome. "+
			"Please sign in to use the network.</body></html>\n")
		return
	case faults.Status != 0 && within(faults.Statuses):
		if faults.RetryAfter > 0 {
			out.Header().Set("Retry-After", strconv.Itoa(int(math.Ceil(faults.RetryAfter.Seconds()))))
		}
		http.Error(out, http.StatusText(faults.Status), faults.Status)
		return
	}
	changed := faults.ChangeAfter > 0 && n > faults.ChangeAfter
	h.mark(out, info, changed)
	var body io.ReadSeeker = &altered{ReadSeeker: f, size: info.Size(), flip: faults.WrongPiece, other: changed}
	if within(faults.Cuts) {
		out.cut = faults.CutAfter
	}
	if within(faults.Stalls) {
		out.stall, out.gone = faults.StallAfter, r.Context().Done()
	}
	out.rate, out.start = faults.Rate, time.Now()
	if faults.Packed {
		h.pack(out, body)
		return
	}
	if faults.NoRanges {
		r = r.Clone(r.Context())
		r.Header.Del("Range")
		r.Header.Del("If-Range")
		out.Header().Set("Accept-Ranges", "none")
	}
	if faults.WrongLength != 0 && r.Header.Get("Range") == "" {
		wrongLength(out, body, info.Size(), faults.WrongLength)
		return
	}
	time := info.ModTime()
	if faults.ETag == NoETag {
		time = unknownTime
	}
	http.ServeContent(out, r, info.Name(), time, body)
}

var unknownTime time.Time

// mark sets the ETag of a file.
func (h *Host) mark(out *counted, info os.FileInfo, changed bool) {
	tag := fmt.Sprintf(`"%x-%x"`, info.Size(), info.ModTime().UnixNano())
	if changed {
		tag = strings.TrimSuffix(tag, `"`) + `-b"`
	}
	switch h.Faults.ETag {
	case WeakETag:
		out.Header().Set("ETag", "W/"+tag)
	case NoETag:
	default:
		out.Header().Set("ETag", tag)
	}
}
