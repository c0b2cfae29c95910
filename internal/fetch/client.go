// Package fetch downloads files over HTTP (RFC 9110): it carries on where a connection broke, in this run or a later
// one, takes another mirror where one fails, and holds what arrives against what was said of it.
package fetch

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Options are how a Client asks.
type Options struct {
	Agent     string        // the program's name and version, for hosts
	PlainHTTP bool          // http without TLS is taken too
	Patience  time.Duration // how long it waits for an answer, or for more of one; 0: DefaultPatience
	Tries     int           // how often something is tried without any progress; 0: DefaultTries

	// Addresses within private networks are refused, but for this host and port: of URLs that a person has not typed.
	// Nothing is refused where Public is false.
	Public bool
	But    string

	Roots *x509.CertPool // by whom hosts' certificates must be signed; nil: those that this computer trusts
}

// The defaults of Options.
const (
	DefaultPatience = 30 * time.Second
	DefaultTries    = 6
)

// maxRedirects is how many redirects are followed.
const maxRedirects = 10

// Client asks hosts.
type Client struct {
	Options
	transport *http.Transport

	mu      sync.Mutex
	proxies map[string]bool // host:port of proxies, which may be in a private network
}

// NewClient makes a client. Proxies are those of the variables HTTPS_PROXY, HTTP_PROXY and NO_PROXY.
func NewClient(o Options) *Client {
	if o.Patience <= 0 {
		o.Patience = DefaultPatience
	}
	if o.Tries <= 0 {
		o.Tries = DefaultTries
	}
	c := &Client{Options: o, proxies: map[string]bool{}}
	c.transport = &http.Transport{
		Proxy: c.proxy, DialContext: c.dial, ForceAttemptHTTP2: true, TLSHandshakeTimeout: o.Patience,
		ResponseHeaderTimeout: o.Patience, MaxIdleConnsPerHost: besideAtOnce, IdleConnTimeout: o.Patience,
		DisableCompression:     true, // what is digested is what was published
		MaxResponseHeaderBytes: 256 << 10,
		TLSClientConfig:        &tls.Config{RootCAs: o.Roots, MinVersion: tls.VersionTLS12},
	}
	return c
}

// Close lets connections go.
func (c *Client) Close() { c.transport.CloseIdleConnections() }

func (c *Client) proxy(r *http.Request) (*url.URL, error) {
	u, err := http.ProxyFromEnvironment(r)
	if err == nil && u != nil {
		port := u.Port()
		if port == "" {
			port = map[string]string{"https": "443", "socks5": "1080", "socks5h": "1080"}[u.Scheme]
		}
		if port == "" {
			port = "80"
		}
		c.mu.Lock()
		c.proxies[net.JoinHostPort(u.Hostname(), port)] = true
		c.mu.Unlock()
	}
	return u, err
}

// dial connects to a host, and looks at the address that its name has turned out to stand for.
func (c *Client) dial(ctx context.Context, network, to string) (net.Conn, error) {
	d := net.Dialer{Timeout: c.Patience}
	c.mu.Lock()
	isProxy := c.proxies[to]
	c.mu.Unlock()
	if c.Public && !isProxy && to != c.But {
		d.Control = func(_, address string, _ syscall.RawConn) error {
			at, err := netip.ParseAddrPort(address)
			if err != nil {
				return err
			}
			if !isPublic(at.Addr().Unmap()) {
				return &Error{Why: Private, URL: to, Host: to}
			}
			return nil
		}
	}
	return d.DialContext(ctx, network, to)
}

// notPublic are networks that mean something only within a network, besides those that netip knows (RFC 6598, RFC
// 6890).
var notPublic = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("64:ff9b:1::/48"),
}

// carriers are networks of IPv6 whose addresses have one of IPv4 in them, and where (RFC 6052, section 2.1; RFC 3056,
// section 2).
var carriers = []struct {
	netip.Prefix
	at int // bytes
}{{netip.MustParsePrefix("64:ff9b::/96"), 12}, {netip.MustParsePrefix("2002::/16"), 2}}

func isPublic(a netip.Addr) bool {
	for _, c := range carriers {
		if c.Contains(a) {
			within := a.As16()
			return isPublic(netip.AddrFrom4([4]byte(within[c.at:])))
		}
	}
	for _, p := range notPublic {
		if p.Contains(a) {
			return false
		}
	}
	return a.IsGlobalUnicast() && !a.IsPrivate()
}

// answer is what a host answered.
type answer struct {
	*http.Response
	Secure    bool      // all who were asked for it were asked by https
	Redirects []Address // where it was asked in the end, and between
}

// get asks for a URL. The error is an *Error, or that of ctx.
func (c *Client) get(ctx context.Context, from Address, header http.Header) (*answer, error) {
	a := &answer{Secure: from.IsSecure()}
	if err := c.admits(from); err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, from.String(), nil)
	if err != nil {
		return nil, &Error{Why: NotAnAddress, URL: from.Shown(), Host: from.Host(), Err: ErrNoURL}
	}
	r.Header = header.Clone()
	if r.Header == nil {
		r.Header = http.Header{}
	}
	r.Header.Set("User-Agent", c.Agent)
	r.Header.Set("Accept-Encoding", "identity")
	client := http.Client{Transport: c.transport, CheckRedirect: func(next *http.Request, via []*http.Request) error {
		to := Address{*next.URL}
		if len(via) > maxRedirects {
			return &Error{Why: Redirects, URL: from.Shown(), Host: from.Host()}
		}
		if next.URL.Scheme != "https" && next.URL.Scheme != "http" {
			return &Error{Why: Scheme, URL: to.Shown(), Host: to.Host()}
		}
		next.Header.Del("Referer") // it could have a query in it
		a.Redirects = append(a.Redirects, to)
		a.Secure = a.Secure && to.IsSecure()
		return c.admits(to)
	}}
	a.Response, err = client.Do(r)
	if err != nil {
		var wrapped *url.Error // it has the whole URL in its text
		if errors.As(err, &wrapped) {
			err = wrapped.Err
		}
		return nil, failure(ctx, from, err)
	}
	return a, nil
}

// admits refuses addresses that are not to be asked.
func (c *Client) admits(a Address) error {
	if a.url.Scheme != "https" && !(a.url.Scheme == "http" && c.PlainHTTP) {
		return &Error{Why: Scheme, URL: a.Shown(), Host: a.Host()}
	}
	// by its text too: where a proxy is asked, only that knows where a connection leads
	if c.Public && a.HostPort() != c.But && isPrivateName(a.url.Hostname()) {
		return &Error{Why: Private, URL: a.Shown(), Host: a.Host()}
	}
	return nil
}

// isPrivateName tells whether the text of a host means something only within a network: a number, in whatever form
// hosts read (URL Standard, section 3.5, "ends in a number"), or a name that is kept for that (RFC 6761, section 6.3;
// RFC 6762, section 3; ICANN, resolution 2024.07.29.06).
func isPrivateName(host string) bool {
	if ip, err := netip.ParseAddr(host); err == nil {
		return !isPublic(ip.Unmap())
	}
	labels := strings.Split(strings.TrimSuffix(strings.ToLower(host), "."), ".")
	last := labels[len(labels)-1]
	_, err := strconv.ParseUint(last, 0, 64)
	_, decimal := strconv.ParseUint(last, 10, 64)
	return err == nil || decimal == nil || slices.Contains([]string{"localhost", "local", "internal"}, last)
}

// at is where the answer came from.
func (a *answer) at(from Address) Address {
	if len(a.Redirects) == 0 {
		return from
	}
	return a.Redirects[len(a.Redirects)-1]
}

// isConditional tells whether it was asked for only if it isn't the one that is there. Else an answer that it is makes
// no sense.
func (a *answer) isConditional() bool {
	asked := a.Request.Header // of the last request; those after a redirect have the headers of the first
	return asked.Get("If-None-Match") != "" || asked.Get("If-Modified-Since") != ""
}

// errStalled says that nothing came for too long.
var errStalled = errors.New("nothing came for too long")

// leastRate is how fast a small file must come, bytes a second, after the client's patience.
const leastRate = 1 << 10

// watched is a body of which something must come, again and again, while it is read.
type watched struct {
	body     io.Reader
	timer    *time.Timer
	patience time.Duration
	rate     int64 // how fast it must come on average, once patience is over, bytes a second; 0: no matter how
	began    time.Time
	came     int64
	stalled  atomic.Bool
}

// watch has a body end the request when nothing comes for too long. stop cancels the request's context.
func watch(body io.Reader, stop context.CancelCauseFunc, patience time.Duration) *watched {
	w := &watched{body: body, patience: patience, began: time.Now()}
	w.timer = time.AfterFunc(patience, func() {
		w.stalled.Store(true)
		stop(errStalled)
	})
	w.timer.Stop() // until somebody waits for it
	return w
}

func (w *watched) Read(p []byte) (int, error) {
	w.timer.Reset(w.patience)
	n, err := w.body.Read(p)
	w.timer.Stop()
	w.came += int64(n)
	if w.rate > 0 && time.Since(w.began) > w.patience+time.Duration(w.came)*time.Second/time.Duration(w.rate) {
		w.stalled.Store(true)
		return n, errStalled
	}
	return n, err
}

func (w *watched) end() { w.timer.Stop() }

// maxSmall bounds files of digests, signatures and the like, bytes.
const maxSmall = 4 << 20

// Small downloads a file that is small, such as one with digests: at most so many bytes. It is tried again as a large
// one is. secure tells whether it came by https all the way. The error is an *Error, or that of ctx.
func (c *Client) Small(ctx context.Context, from Address, most int64, header http.Header) (s Smallfile, err error) {
	w := c.waits()
	for {
		s, err = c.small(ctx, from, most, header)
		var e *Error
		if err == nil || !errors.As(err, &e) || !e.passing() {
			return s, err
		}
		if err := w.again(ctx, e, nil); err != nil {
			return s, err
		}
	}
}

// Smallfile is a small file that was downloaded.
type Smallfile struct {
	Text    []byte
	At      Address // where it came from in the end
	Secure  bool
	Current bool   // it is as it was, going by the conditions in the header that was sent
	Type    string // Content-Type
	Validators
}

func (c *Client) small(ctx context.Context, from Address, most int64, header http.Header) (s Smallfile, err error) {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	a, err := c.get(ctx, from, header)
	if err != nil {
		return s, err
	}
	defer a.Body.Close()
	s = Smallfile{
		At: a.at(from), Secure: a.Secure, Type: a.Header.Get("Content-Type"), Validators: validatorsOf(a.Header),
	}
	switch {
	case a.StatusCode == http.StatusNotModified && a.isConditional():
		s.Current = true
		return s, nil
	case a.StatusCode != http.StatusOK:
		return s, statusError(from, a.Response)
	case a.ContentLength > most:
		return s, &Error{Why: TooLarge, URL: from.Shown(), Host: from.Host(), Want: most, Got: a.ContentLength}
	}
	body := watch(a.Body, stop, c.Patience)
	defer body.end()
	body.rate = leastRate
	s.Text, err = io.ReadAll(io.LimitReader(body, most+1))
	if err != nil {
		if body.stalled.Load() {
			return s, &Error{Why: Unanswered, URL: from.Shown(), Host: from.Host()}
		}
		return s, failure(ctx, from, err)
	}
	if int64(len(s.Text)) > most {
		return s, &Error{Why: TooLarge, URL: from.Shown(), Host: from.Host(), Want: most, Got: int64(len(s.Text))}
	}
	return s, nil
}

// statusError is the error of an answer with a status that is no success.
func statusError(from Address, r *http.Response) *Error {
	return &Error{
		Why: Answered, URL: from.Shown(), Host: from.Host(), Status: r.StatusCode,
		After: retryAfter(r.Header, time.Now()),
	}
}
