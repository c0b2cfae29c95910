package view

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"zipstamp/internal/check"
	"zipstamp/internal/fetch"
	"zipstamp/internal/publisher"
	"zipstamp/internal/shelf"
	"zipstamp/internal/shell"
)

// Fetch is what became of a download, besides what a check found.
type Fetch struct {
	Path      string
	From      string
	Redirects []fetch.Address
	Came      bool // it had to be downloaded
	Whole     shelf.Whole
	Bad       bool // it is not to be used
	Shelved   bool // it is on the shelf
}

// Fetched shows the result of a download.
func (v *Screen) Fetched(r check.Report, f Fetch) {
	a := checkAnswer(r, v.width)
	how := "from " + f.From
	if !f.Came {
		how = fmt.Sprintf("%s, from %s", ago(f.Whole.Fetched, time.Now()), f.From)
	}
	for _, to := range f.Redirects {
		how += "\nredirected to " + to.Shown()
	}
	if !f.Whole.Secure {
		how += "\nnot by https"
	}
	a.add("fetched", "%s", wordLines(how))
	switch {
	case f.Bad && f.Shelved && r.Outcome() != check.NothingPublished:
		a.note("It is fetched anew next time.")
	case f.Bad && !f.Shelved && r.Outcome() == check.NothingPublished:
		a.notes = nil // they name a file that is gone
		a.note("It was not put into the folder. To compare it, give what the publisher's page says: --digest DIGEST")
	case f.Bad && !f.Shelved:
		a.note("It was not put into the folder.")
	case f.Shelved:
		a.add("kept", "on the shelf: %s", f.Path)
	default:
		a.add("kept", "%s", word(f.Path))
	}
	a.print(v.Out, v.width)
}

// wordLines makes each line of a text fit to be shown.
func wordLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = word(lines[i])
	}
	return strings.Join(lines, "\n")
}

// ago is how long something is past, in words.
func ago(at, now time.Time) string {
	switch d := now.Sub(at); {
	case at.IsZero():
		return "at an unknown time"
	case d < 2*time.Minute:
		return "just now"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours ago", int(d.Hours()))
	default:
		return fmt.Sprintf("%d days ago", int(d.Hours()/24))
	}
}

// FetchEvent is what happened while something was downloaded, in a sentence; empty for what nobody needs to know.
func FetchEvent(e fetch.Event) string {
	switch e.Kind {
	case fetch.Waits:
		return fmt.Sprintf("%s; it is tried again in %s.", capital(why(e.Err)), span(e.For))
	case fetch.StartsOver:
		return "The file on the host is another one by now, so the download starts over."
	case fetch.Unmarked:
		return fmt.Sprintf("The host doesn't say whether the file is still the same, so the %s that were kept are "+
			"fetched "+
			"again.", Bytes(e.At))
	case fetch.Skips:
		return fmt.Sprintf("The host sends only whole files, so the %s that were kept come once more, and are "+
			"compared.",
			Bytes(e.At))
	case fetch.CarriesOn:
		return fmt.Sprintf("The download carries on at %s.", Bytes(e.At))
	case fetch.NextMirror:
		return fmt.Sprintf("%s; the next mirror is asked: %s.", capital(why(e.Err)), word(e.To.Host()))
	case fetch.Distrusts:
		return fmt.Sprintf("The %s that were kept can't be right, so they are fetched again.", Bytes(e.At))
	case fetch.WrongPiece:
		return fmt.Sprintf("The piece at %s from %s is not what was published; it is fetched again.", Bytes(e.At),
			word(e.To.Host()))
	case fetch.WrongWhole:
		return fmt.Sprintf("What arrived from %s is not what was published.", word(e.To.Host()))
	}
	return ""
}

func why(err error) string {
	var e *fetch.Error
	if errors.As(err, &e) {
		return FetchText(e)
	}
	return word(err.Error())
}

func capital(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

// FetchText says why something could not be downloaded.
func FetchText(e *fetch.Error) string {
	host, url := word(e.Host), word(e.URL)
	switch e.Why {
	case fetch.NoNetwork:
		return "there is no network: " + host + " can't be reached"
	case fetch.NoHost:
		return "no host is known by the name " + host
	case fetch.NotReached:
		return host + " refuses the connection: nothing is served there now"
	case fetch.Certificate:
		return "it can't be shown that " + host +
			" is that host: its certificate is signed by nobody whom this computer " +
			"trusts"
	case fetch.Expired:
		return "the certificate of " + host + " has expired, or this computer's clock is wrong"
	case fetch.OtherName:
		return "the certificate that came is not that of " + host
	case fetch.Unanswered:
		return host + " sends nothing any more"
	case fetch.Broken:
		return "the connection to " + host + " broke"
	case fetch.Answered:
		return statusText(e, host, url)
	case fetch.Redirects:
		return url + " leads from one place to the next without an end"
	case fetch.Scheme:
		return url + " is not an address of https"
	case fetch.Private:
		return host + " is an address within a private network, which a list or a redirect may not lead to"
	case fetch.Page:
		return host +
			" sent a web page in place of the file: perhaps one to sign in on, or one that says that the file " +
			"is not there"
	case fetch.OtherLength:
		return fmt.Sprintf("the file at %s has %s, and not the %s that it should have", host, exactCount(e.Got),
			exactCount(e.Want))
	case fetch.OtherDigest:
		return "what arrived from " + host + " is not what was published, and nobody else has it"
	case fetch.Unasked:
		return host + " sent another part of the file than was asked for"
	case fetch.NoRoom:
		return fmt.Sprintf("the disk is too full: %s are needed, and %s are free", Bytes(e.Want), Bytes(e.Got))
	case fetch.NotAnAddress:
		return url + " is not an address that can be fetched"
	case fetch.Torrent:
		return "torrents can't be fetched"
	case fetch.TooLarge:
		return fmt.Sprintf("%s is larger than such a file may be (%s)", url, Bytes(e.Want))
	case fetch.Malformed:
		return fmt.Sprintf("%s %v", url, e.Err)
	case fetch.Encoded:
		return fmt.Sprintf("%s packs the file for its way in a manner that is not known here (%v)", host, e.Err)
	case fetch.Endless:
		return fmt.Sprintf("the file at %s may be incomplete: the connection ended after %s, and the host had not "+
			"said how long it is", host, Bytes(e.Got))
	case fetch.Changes:
		return "the file at " + host + " is another one each time it is asked for"
	}
	return string(e.Why)
}

func exactCount(n int64) string { return Count(n, "byte") }

// statusText says what an answer without a file means (RFC 9110, section 15; RFC 6585).
func statusText(e *fetch.Error, host, url string) string {
	text := fmt.Sprintf("%s answers with status %d", host, e.Status)
	switch {
	case e.Status == 404 || e.Status == 410:
		text = fmt.Sprintf("there is no file at %s (status %d)", url, e.Status)
	case e.Status == 401 || e.Status == 403:
		text = fmt.Sprintf("%s doesn't let everybody have that file (status %d)", host, e.Status)
	case e.Status == 429:
		text = fmt.Sprintf("%s has been asked too often (status 429)", host)
	case e.Status >= 500:
		text = fmt.Sprintf("%s has a fault of its own (status %d)", host, e.Status)
	}
	if e.After > 0 {
		text += "; it wants to be asked again in " + span(e.After)
	}
	return text
}

// fetchNext says what to do about a download that failed.
func fetchNext(e *fetch.Error, again []string) string {
	repeat := shell.Command(again...)
	switch e.Why {
	case fetch.Scheme:
		if !strings.HasPrefix(e.URL, "http:") {
			return "use the https address of the file"
		}
		return "use the https address; if there is none: " + shell.Command(shell.With(again, "--plain-http")...)
	case fetch.NotReached:
		return "see that the address is right; if it is, try again later"
	case fetch.NoHost, fetch.NotAnAddress:
		return "copy the address again from the publisher's page"
	case fetch.Torrent:
		return "take the direct link on the publisher's page"
	case fetch.Page:
		return "open the address in a browser, and copy the direct link to the file from there"
	case fetch.Certificate, fetch.Expired, fetch.OtherName:
		return "see that this computer's clock is right, and that no sign-in page of a network is in the way"
	case fetch.NoRoom:
		return "make room (zipstamp shelf shows what is kept), and run the same command again: it carries on"
	case fetch.Endless:
		return "say what is published: --digest TEXT, --sums FILE or --key FILE"
	case fetch.OtherDigest, fetch.OtherLength, fetch.Changes:
		return "ask the publisher, or look for a newer address"
	case fetch.Answered:
		if e.Status/100 == 4 && e.Status != 429 {
			return "copy the address again from the publisher's page"
		}
	case fetch.Private, fetch.Malformed, fetch.TooLarge, fetch.Encoded, fetch.Redirects:
		return "ask the publisher"
	}
	return "run the same command again, and it carries on where it was: " + repeat
}

// IsOffline tells whether an error only says that a host can't be asked now.
func IsOffline(e *fetch.Error) bool {
	switch e.Why {
	case fetch.NoNetwork, fetch.NoHost, fetch.NotReached, fetch.Unanswered, fetch.Broken:
		return true
	case fetch.Answered:
		return e.Status >= 500 || e.Status == 429
	}
	return false
}

// FromShelf says that what is on the shelf is used, since nobody could be asked whether it is the current one.
func FromShelf(name string, fetched time.Time, e *fetch.Error) string {
	return fmt.Sprintf("%s, so it isn't known whether %s is still the current one; it is taken from the shelf, as "+
		"fetched %s.",
		capital(FetchText(e)), word(name), ago(fetched, time.Now()))
}

// IsCurrent says that nothing had to be downloaded.
func IsCurrent(name, host string, fetched time.Time) string {
	return fmt.Sprintf("%s on the shelf, fetched %s, is the current one, as %s says: nothing is downloaded.",
		word(name),
		ago(fetched, time.Now()), word(host))
}

// SharedDownload says that it is waited for another run.
func SharedDownload(host string) string {
	return fmt.Sprintf("Another run of zipstamp is downloading this from %s; this one waits for it.", word(host))
}

// BesideUnknown says that it isn't known what was published beside a file.
func BesideUnknown(err error) string {
	return fmt.Sprintf("Whether there are digests beside the file could not be found out: %s.", why(err))
}

// BesideKept says that a small file was not put into a folder, where others with its names are.
func BesideKept(path string) string {
	return fmt.Sprintf("%s is another file, and stays as it is.", word(path))
}

// BesideLeftOut says that a small file has the name of the download itself.
func BesideLeftOut(name, host string) string {
	return fmt.Sprintf("%s at %s has the name of the download, and is left out.", word(name), word(host))
}

// BesideDiffers says that a Metalink document has other digests than what counts.
func BesideDiffers(name, host string) string {
	return fmt.Sprintf("%s at %s has another digest than was published, and is not used.", word(name), word(host))
}

// WholeFirst says that an image can't be stamped while it arrives.
func WholeFirst(packing string) string {
	return fmt.Sprintf("An image packed as %s can only be unpacked when it is whole, so it is downloaded first.",
		word(packing))
}

// PartKept says what an interrupted download leaves.
func PartKept(n int64) string {
	if n == 0 {
		return "Nothing was downloaded yet."
	}
	return fmt.Sprintf("%s are kept; the same command carries on there.", Bytes(n))
}

// AlreadyThere says that a download would replace a file.
func AlreadyThere(path string) error {
	return hinted("to check the one that is there: zipstamp check "+shell.File(path),
		"%s exists already, and is not replaced", path)
}

// NeedsFolder says that something is no folder.
func NeedsFolder(path string) error { return fmt.Errorf("%s is not a folder", path) }

// NoFolderToPut says that a folder for downloads isn't one.
func NoFolderToPut(path string) error {
	return hinted("make it first, or leave --to out: then the file is kept on the shelf", "%s is not a folder", path)
}

// FolderMade says that a folder for downloads was made.
func FolderMade(path string) string { return fmt.Sprintf("The folder %s is made.", word(path)) }

// ShelfChanged says that a file on the shelf isn't what was downloaded any more.
func ShelfChanged(name string) error {
	return hinted("run the same again: it is fetched anew", "%s on the shelf has changed since it was downloaded", name)
}

// NoSchemeBefore says that an address lacks its beginning.
func NoSchemeBefore(what string) error {
	return hinted(DidYouMean(shell.Command("zipstamp", "fetch", "https://"+what)), "there is no file or system %s",
		what)
}

// NoShelf says that the folder for downloads can't be used.
func NoShelf(path string, err error) error {
	return hinted("name another folder for it in the setting shelf, or use --to FOLDER",
		"the shelf %s can't be used: %w", path, err)
}

// IsHere says that what was to be fetched is a file.
func IsHere(path string) error {
	return hinted("to check it: zipstamp check "+shell.File(path), "%s is here already; fetch takes an address", path)
}

// SeveralFiles says that a Metalink document names several files.
func SeveralFiles(name string, files []string) error {
	return hinted("fetch one by its own address", "%s names several files: %s", name, listed(files, 5))
}

// Serving says where a stand-in for a publisher is.
func (v *Screen) Serving(url, folder string) {
	fmt.Fprintln(v.Out, fold(fmt.Sprintf("A stand-in for a publisher serves %s at %s until it is interrupted (Ctrl-C).",
		word(folder), url), v.width, ""))
	fmt.Fprintln(v.Out, fold("To fetch from it: zipstamp fetch --plain-http "+url+"FILE", v.width, ""))
}

// ServedText is what was answered.
func ServedText(s publisher.Served) string {
	text := fmt.Sprintf(", status %d, %s", s.Status, Bytes(s.Sent))
	if s.Range != "" {
		text = ", " + word(s.Range) + text
	}
	return text
}

// ServedSentence says how much was sent in all.
func ServedSentence(n int64) string { return Bytes(n) + " were sent." }

// PortTaken says that nothing can be served at a port.
func PortTaken(port int, err error) error {
	if call := (*os.SyscallError)(nil); errors.As(err, &call) {
		err = call.Err
	}
	return hinted("leave --port out, and a free one is taken", "nothing can be served at port %d: %w", port, err)
}
