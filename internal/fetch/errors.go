package fetch

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"time"
)

// Why says why something could not be downloaded.
type Why string

// The reasons.
const (
	NoNetwork    Why = "no network"           // nothing outside can be reached
	NoHost       Why = "no such host"         // the name is not known
	NotReached   Why = "not reached"          // nothing answers there
	Certificate  Why = "certificate"          // it can't be shown that it is the host
	Expired      Why = "certificate expired"  //
	OtherName    Why = "certificate of other" // it is another host's
	Unanswered   Why = "unanswered"           // nothing came for too long
	Broken       Why = "broken"               // the connection broke
	Answered     Why = "status"               // with a status that is no success: Status
	Redirects    Why = "redirects"            // too many of them
	Scheme       Why = "scheme"               // it isn't https, or leads to what isn't
	Private      Why = "private"              // an address that only means something within a network
	Page         Why = "page"                 // a web page came in place of a file
	OtherLength  Why = "length"               // it is not as long as it was said to be
	OtherDigest  Why = "digest"               // what arrived is not what was sent, or not what was published
	Unasked      Why = "unasked"              // a range came that was not asked for
	NoRoom       Why = "no room"              // on the disk
	NotAnAddress Why = "no address"           // it is no URL that can be fetched
	Torrent      Why = "torrent"              // likewise, of another kind
	TooLarge     Why = "too large"            // larger than such a file may be
	Malformed    Why = "malformed"            // a file that says where to download is wrong
	Encoded      Why = "encoded"              // it is packed for its way in a manner that isn't known: Err
	Changes      Why = "changes"              // it is another file again and again
	Endless      Why = "no end"               // nobody said where it ends, so that it may have been cut short
)

// Error says that something could not be downloaded, and why.
type Error struct {
	Why    Why
	URL    string // as it may be shown
	Host   string
	Status int           // of the answer
	After  time.Duration // until it may be asked again, as the host says; 0: it doesn't
	Want   int64         // bytes
	Got    int64         // bytes
	Err    error         // what the system says; nil where that is nothing more

	retry bool // the same host may do better
}

func (e *Error) Error() string {
	text := fmt.Sprintf("fetch %s: %s", e.URL, e.Why)
	if e.Status != 0 {
		text += fmt.Sprintf(" %d", e.Status)
	}
	if e.Err != nil {
		text += ": " + e.Err.Error()
	}
	return text
}

func (e *Error) Unwrap() error { return e.Err }

// passing tells whether the same may go right later.
func (e *Error) passing() bool {
	switch e.Why {
	case NoNetwork, NotReached, Unanswered, Broken:
		return true
	case Answered:
		return e.Status == 408 || e.Status == 425 || e.Status == 429 || e.Status >= 500
	}
	return false
}

// failure finds out why a request failed. An error of ctx is returned as it is.
func failure(ctx context.Context, to Address, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var known *Error
	if errors.As(err, &known) {
		return known
	}
	e := &Error{Why: Broken, URL: to.Shown(), Host: to.Host(), Err: err}
	var dns *net.DNSError
	var wrongName x509.HostnameError
	var invalid x509.CertificateInvalidError
	var timeout net.Error
	switch {
	case errors.As(err, &dns) && dns.IsNotFound:
		e.Why = NoHost
	case errors.As(err, &dns):
		e.Why = NoNetwork
	case errors.As(err, &wrongName):
		e.Why = OtherName
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		e.Why = Expired
	case errors.As(err, new(*tls.CertificateVerificationError)), errors.As(err, new(x509.UnknownAuthorityError)):
		e.Why = Certificate
	case isOneOf(err, unreachable):
		e.Why = NoNetwork
	case isOneOf(err, refused):
		e.Why = NotReached
	case errors.Is(err, errStalled), errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err,
		os.ErrDeadlineExceeded):
		e.Why = Unanswered
	}
	return e
}

func isOneOf(err error, all []error) bool {
	return slices.ContainsFunc(all, func(one error) bool { return errors.Is(err, one) })
}
