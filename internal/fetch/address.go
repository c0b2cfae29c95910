package fetch

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"mime"
	"net"
	"net/netip"
	"net/url"
	"path"
	"path/filepath"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Address is a URL from which something can be downloaded.
type Address struct{ url url.URL }

// ErrNoURL says that a text is no URL at all.
var ErrNoURL = errors.New("not a URL")

// IsURL tells whether a text is meant as a URL, or as another address of a download.
func IsURL(text string) bool {
	scheme, rest, ok := strings.Cut(strings.TrimSpace(text), ":")
	if !ok || rest == "" || !isScheme(scheme) {
		return false
	}
	return strings.HasPrefix(rest, "//") && len(rest) > 2 || strings.EqualFold(scheme, "magnet")
}

// LacksScheme tells whether a text may be an address without its beginning: a host, and a file there.
func LacksScheme(text string) bool {
	host, file, ok := strings.Cut(text, "/")
	name, _, _ := strings.Cut(host, ":")
	isOther := func(r rune) bool {
		return r != '.' && r != '-' && !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9')
	}
	return ok && file != "" && file[0] != '/' && name != "" &&
		strings.Trim(name, ".-") == name && !strings.ContainsFunc(name, isOther)
}

func isScheme(s string) bool {
	for i, r := range s {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || !strings.ContainsRune("0123456789+.-", r)) {
			return false
		}
	}
	return len(s) > 1 // a single letter is a drive
}

// maxURL bounds a URL, bytes.
const maxURL = 8 << 10

// ParseAddress reads a URL. The error is an *Error.
func ParseAddress(text string) (a Address, err error) {
	wrong := func(why Why, err error) (Address, error) {
		return a, &Error{Why: why, URL: BareURL(text), Err: err}
	}
	if !IsURL(text) || len(text) > maxURL {
		return wrong(NotAnAddress, ErrNoURL)
	}
	u, err := url.Parse(strings.TrimSpace(text))
	if err != nil {
		return wrong(NotAnAddress, errors.Unwrap(err)) // without the text: it may have a password in it
	}
	u.Fragment, u.RawFragment = "", ""
	u.Scheme, u.Host = strings.ToLower(u.Scheme), strings.ToLower(u.Host)
	a.url = *u
	switch {
	case u.Scheme == "magnet" || strings.EqualFold(path.Ext(u.Path), ".torrent"):
		return wrong(Torrent, nil)
	case u.Scheme != "https" && u.Scheme != "http":
		return wrong(Scheme, nil)
	case u.Hostname() == "":
		return wrong(NotAnAddress, ErrNoURL)
	}
	return a, nil
}

// BareURL is a text that may be a URL without what may be secret.
func BareURL(text string) string {
	text, _, _ = strings.Cut(text, "#")
	text, _, _ = strings.Cut(text, "?")
	scheme, rest, ok := strings.Cut(text, "://")
	if !ok {
		return text
	}
	authority, place, slash := strings.Cut(rest, "/")
	authority = authority[strings.LastIndex(authority, "@")+1:]
	if slash {
		place = "/" + place
	}
	return scheme + "://" + authority + place
}

// String is the whole URL, with what may be secret in it: it is not to be shown or kept.
func (a Address) String() string { return a.url.String() }

// Shown is the URL without its user and query, which may be secret.
func (a Address) Shown() string {
	u := url.URL{Scheme: a.url.Scheme, Host: a.url.Host, Path: a.url.Path, RawPath: a.url.RawPath}
	return u.String()
}

// Host is the host's name, with its port where that isn't the usual one.
func (a Address) Host() string { return a.url.Host }

// Key stands for the address, so that it can be kept without what may be secret.
func (a Address) Key() string {
	sum := sha256.Sum256([]byte(a.String()))
	return hex.EncodeToString(sum[:12])
}

// HostPort is the host with its port.
func (a Address) HostPort() string {
	port := a.url.Port()
	if port == "" {
		port = map[string]string{"https": "443", "http": "80"}[a.url.Scheme]
	}
	return net.JoinHostPort(a.url.Hostname(), port)
}

// IsLoopback tells whether it is this computer, by its name or number.
func (a Address) IsLoopback() bool {
	ip, err := netip.ParseAddr(a.url.Hostname())
	return a.url.Hostname() == "localhost" || err == nil && ip.IsLoopback()
}

// IsSecure tells whether it is asked by https.
func (a Address) IsSecure() bool { return a.url.Scheme == "https" }

// Name is the last part of its path, as a file's name.
func (a Address) Name() string { return PlainFileName(path.Base(a.url.Path)) }

// Beside is the address of another file in the same folder. What may be secret goes along: it may be what lets one in.
func (a Address) Beside(name string) Address {
	b := a
	b.url.Path, b.url.RawPath = path.Dir(a.url.Path), ""
	b.url.Path = strings.TrimSuffix(b.url.Path, "/") + "/" + name
	return b
}

// Resolve is the address that a text stands for which was found at another one.
func (a Address) Resolve(text string) (Address, error) {
	ref, err := url.Parse(text)
	if err != nil {
		return Address{}, &Error{Why: NotAnAddress, URL: BareURL(text), Err: ErrNoURL}
	}
	return ParseAddress(a.url.ResolveReference(ref).String())
}

// maxName bounds names of files, bytes: file systems take 255, and there must be room for endings.
const maxName = 180

// PlainFileName makes a plain name for a file of one that somebody else says: without folders, with no dot first, and
// nothing in it that a file system or a terminal takes for something else. It is empty if nothing is left.
func PlainFileName(name string) string {
	name = strings.ReplaceAll(name, `\`, "/")
	if name = path.Base("/" + name); name == "/" {
		return ""
	}
	name = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == utf8.RuneError || strings.ContainsRune(`/\:*?"<>|`, r) || !unicode.IsPrint(r) {
			return '_'
		}
		return r
	}, name)
	name = strings.Trim(strings.TrimLeft(name, ". "), " ")
	name = strings.TrimRight(name, ". ")
	if len(name) > maxName { // its ending tells what it is
		ending := filepath.Ext(name)
		if len(ending) > 16 {
			ending = ""
		}
		start := name[:maxName-len(ending)]
		for !utf8.ValidString(start) {
			start = start[:len(start)-1]
		}
		name = strings.TrimRight(start, ". ") + ending
	}
	if isReserved(name) {
		name = "_" + name
	}
	return name
}

// isReserved tells names that Windows keeps for devices (Microsoft, "Naming Files, Paths, and Namespaces").
func isReserved(name string) bool {
	stem, _, _ := strings.Cut(strings.ToUpper(name), ".")
	switch stem = strings.TrimRight(stem, " "); stem {
	case "CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$":
		return true
	}
	digit := strings.TrimPrefix(strings.TrimPrefix(stem, "COM"), "LPT")
	return len(digit) < len(stem) && utf8.RuneCountInString(digit) == 1 && strings.ContainsAny(digit, "0123456789¹²³")
}

// nameIn is the name in a Content-Disposition header (RFC 6266); empty if there is none.
func nameIn(header string) string {
	_, params, err := mime.ParseMediaType(header)
	if err != nil {
		return ""
	}
	return PlainFileName(params["filename"])
}
