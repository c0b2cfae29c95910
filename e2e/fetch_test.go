package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/publisher"
	"zipstamp/internal/testbed"
)

// host is a publisher's host with TLS, which the program on a desk trusts.
type host struct {
	*publisher.Host
	url string
}

// newHost serves a folder of the desk.
func (d *desk) newHost(folder string, f publisher.Faults) *host {
	d.t.Helper()
	require.NoError(d.t, os.MkdirAll(d.path(folder), 0o755))
	h := &host{Host: &publisher.Host{Folder: d.path(folder), Faults: f}}
	server := httptest.NewTLSServer(h.Host)
	d.t.Cleanup(server.Close)
	h.url = server.URL + "/"
	d.write("root.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}))
	d.env = append(d.env, "SSL_CERT_FILE="+d.path("root.pem"), "ZIPSTAMP_TRIES=3", "NO_PROXY=*")
	return h
}

// site puts the demo's image and sums on a host. They look as if they had been there for some time.
func (d *desk) site(f publisher.Faults) *host {
	d.t.Helper()
	h := d.newHost("site", f)
	for _, name := range []string{osXZ, demo.Sums, demo.Sums + ".minisig"} {
		text, err := os.ReadFile(filepath.Join(sample, name))
		require.NoError(d.t, err)
		d.write("site/"+name, text)
		old := time.Now().Add(-time.Hour)
		require.NoError(d.t, os.Chtimes(d.path("site/"+name), old, old))
	}
	return h
}

// onShelf are the files on the shelf with a name.
func (d *desk) onShelf(name string) []string {
	found, err := filepath.Glob(d.path("cache/zipstamp/shelf/*/*/" + name))
	require.NoError(d.t, err)
	return found
}

func TestFetch(t *testing.T) {
	t.Parallel()
	if os.Getenv("SSL_CERT_FILE") == "" && !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t, demo.Key, demo.Good, demo.Good+".data")
	h := d.site(publisher.Faults{CutAfter: 900_000, Cuts: 2})
	at := strings.TrimSuffix(strings.TrimPrefix(h.url, "https://"), "/")
	r := d.want(0, "is what was published at "+at+": its SHA-256 agrees", "fetch", h.url+osXZ+"?token=slack-water")
	r.mentions(t, "carries on at", "as in SHA256SUMS at "+at+", line 1", "kept on the shelf")
	assert.NotContains(t, r.out+r.err, "slack-water", "what may be secret is not shown")
	require.Len(t, d.onShelf(osXZ), 1)
	assert.NotContains(t, d.sh("cat cache/zipstamp/shelf/*/about.json"), "slack-water", "nor kept")

	// what is on the shelf and current is not downloaded again, by fetch or stamp, nor needed from the net
	d.want(0, "", "fetch", h.url+osXZ)
	before := h.Sent.Load()
	doc := document(t, d.want(0, "", "fetch", "--json", h.url+osXZ))
	assert.Equal(t, []any{true, 0.0, true}, []any{doc["from_shelf"], doc["fetched"], doc["secure"]})
	d.want(0, "Stamped and read back", "stamp", "--yes", h.url+osXZ, demo.Good).mentions(t, "from "+h.url+osXZ)
	assert.Less(t, h.Sent.Load()-before, int64(10_000))
	assert.Equal(t, unpack, d.read(demo.Good + ".data")[:len(unpack)])
	h.Faults = publisher.Faults{Status: 503}
	d.want(0, "is what was published", "fetch", h.url+osXZ).mentions(t,
		"it is taken from the shelf, as fetched just now")

	// a newer file takes its place; a wrong one is not used
	h.Faults = publisher.Faults{}
	d.sh("touch site/" + osXZ)
	d.want(0, "is what was published", "fetch", h.url+osXZ)
	d.sh(`printf x | dd of=site/` + osXZ + ` bs=1 seek=1000000 conv=notrunc status=none; touch -d '1 hour ago' site/` +
		osXZ)
	d.want(3, "is not what was published: its SHA-256 differs", "fetch", h.url+osXZ)
	d.sh("mkdir wrong")
	d.want(3, "its SHA-256 differs", "fetch", "--to", "wrong", h.url+osXZ).mentions(t, "It was not put into the folder")
	assert.Empty(t, d.sh("ls -A wrong"))
	d.want(3, "is damaged", "stamp", "--yes", h.url+osXZ, demo.Good).mentions(t, "nothing was written to the card")
	d.want(0, "", "shelf").mentions(t, "of no use: it is not what was published")
	d.want(2, "no terminal to ask on", "shelf", "clean")
	d.want(0, "1 download removed", "shelf", "clean", "--yes")
	assert.Len(t, d.onShelf(osXZ), 1, "the good one, of the other address, is still there")
	document(t, d.want(0, "", "shelf", "--json"))

	// into a folder, where nothing is replaced
	h = d.site(publisher.Faults{})
	others := fmt.Sprintf("%x  ebb.img\n", sha256.Sum256(nil))
	d.sh("mkdir here")
	d.write("here/"+demo.Sums, []byte(others))
	d.want(0, "is what was published", "fetch", "--to", "here", h.url+osXZ)
	assert.Equal(t, d.sh("cat site/"+osXZ+" | sha256sum"), d.sh("cat here/"+osXZ+" | sha256sum"))
	assert.Equal(t, others, string(d.read("here/"+demo.Sums)))
	assert.ElementsMatch(t, strings.Fields(d.sh("ls -A here")), []string{
		demo.Sums, osXZ, osXZ + "-" + demo.Sums, demo.Sums + ".minisig",
	})
	d.want(2, "exists already, and is not replaced", "fetch", "--to", "here", h.url+osXZ)
	d.want(0, "is what was published", "check", "here/"+osXZ)
}

// trustsFile tells whether roots are taken from the file in a variable, as on Linux.
func trustsFile() bool { return os.Getenv("GOOS") == "" && exists("/proc/self") }

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// TestFetchWithoutTLS has nothing count that anybody could have changed on its way.
func TestFetchWithoutTLS(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.Key, demo.Good, demo.Good+".data")
	d.site(publisher.Faults{})
	server := httptest.NewServer(&publisher.Host{Folder: d.path("site")})
	t.Cleanup(server.Close)
	url := server.URL + "/" + osXZ
	d.want(2, "is not an address of https", "fetch", url).mentions(t, "--plain-http")
	d.want(0, "came without https, and is not signed", "fetch", "--plain-http", url)
	d.want(0, "nothing is downloaded", "fetch", "--plain-http", url)
	d.want(3, "no published digest", "stamp", "--yes", "--plain-http", url, demo.Good)
	d.want(0, "signed by the key that you named", "fetch", "--plain-http", "--key", demo.Key, url)
	d.sh("mkdir here")
	d.want(0, "came without https", "fetch", "--plain-http", "--to", "here", url)
	assert.Equal(t, osXZ+"\n", d.sh("ls -A here"), "digests that count for nothing stay behind")
	d.want(0, "is what was published", "fetch", "--plain-http", "--digest", strings.Fields(string(d.read(
		"site/" + demo.Sums)))[0], url)

	// a run was killed when it had written a file of digests, and not yet how that came
	abouts := d.found("cache/zipstamp/shelf/*/about.json")
	require.Len(t, abouts, 1)
	text, err := os.ReadFile(abouts[0])
	require.NoError(t, err)
	var about map[string]any
	require.NoError(t, json.Unmarshal(text, &about))
	delete(about["whole"].(map[string]any), "beside")
	text, err = json.Marshal(about)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(abouts[0], text, 0o600))
	server.Close()
	d.want(3, "no published digest", "stamp", "--yes", "--plain-http", url, demo.Good)
}

// TestWhatPlainHTTPLeadsTo has a host without TLS that leads to one with it, where all agrees: nothing of that counts
// as published, since anybody on the way could have led there.
func TestWhatPlainHTTPLeadsTo(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t, demo.Good, demo.Good+".data")
	image := noiseOS(3, 24<<20)
	h := d.newHost("site", publisher.Faults{})
	d.write("site/os.img", image)
	d.write("site/autorun.inf", []byte("[autorun]"))
	sums := fmt.Appendf(nil, "%x  os.img\n", sha256.Sum256(image))
	metalink := func(url string, sum [32]byte) []byte {
		return fmt.Appendf(nil, `<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="os.img"><size>%d</size>`+
			`<hash type="sha-256">%x</hash><url>%s</url></file></metalink>`+"\n", len(image), sum, url)
	}
	d.write("site/meta/os.img.meta4", metalink(h.url+"os.img", sha256.Sum256(image)))
	link, cut := "meta/os.img.meta4", 0
	answers := 0
	odd := func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Link", "<"+h.url+link+`>; rel=describedby; type="application/metalink4+xml"`)
		if strings.HasSuffix(r.URL.Path, "/os.meta4") {
			_, _ = w.Write(metalink(h.url+"os.img", sha256.Sum256(image)))
			return
		}
		if !strings.HasSuffix(r.URL.Path, "/os.img") {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("ETag", `"tide"`)
		if answers++; answers <= cut {
			w.Header().Set("Content-Length", fmt.Sprint(len(image)))
			_, _ = w.Write(image[:len(image)/2])
			panic(http.ErrAbortHandler)
		}
		http.ServeContent(w, r, "os.img", time.Time{}, bytes.NewReader(image))
	}
	plainHost := httptest.NewServer(http.HandlerFunc(odd))
	t.Cleanup(plainHost.Close)
	card := bytes.Clone(d.read(demo.Good + ".data"))
	refused := func(what string) {
		t.Helper()
		d.want(3, "no published digest", "stamp", "--yes", "--plain-http", what, demo.Good)
		assert.Equal(t, card, d.read(demo.Good+".data"), "the card was not touched")
	}
	refused(plainHost.URL + "/os.img")
	d.write("site/SHA256SUMS", sums)
	refused(plainHost.URL + "/os.meta4")
	d.want(0, "Nothing was compared", "fetch", "--plain-http", plainHost.URL+"/os.img")

	// by https to the half of it, and on by http
	answers, cut, link = 0, 1, "none"
	secure := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if answers > 0 && strings.HasSuffix(r.URL.Path, "/os.img") {
			http.Redirect(w, r, plainHost.URL+"/os.img", http.StatusFound)
			return
		}
		odd(w, r)
	}))
	t.Cleanup(secure.Close)
	doc := document(t, d.want(0, "", "fetch", "--plain-http", "--json", secure.URL+"/os.img"))
	assert.Equal(t, false, doc["secure"], "half of it came by http")

	// a link to what is no Metalink document is not delivered; one that contradicts what counts is not used
	answers, cut, link = 0, 0, "autorun.inf"
	d.sh("mkdir here there; rm site/SHA256SUMS")
	direct := httptest.NewTLSServer(http.HandlerFunc(odd))
	t.Cleanup(direct.Close)
	d.want(0, "", "fetch", "--to", "here", direct.URL+"/os.img")
	assert.Equal(t, "os.img\n", d.sh("ls -A here"))
	link = "other.meta4"
	d.write("site/other.meta4", metalink(h.url+"os.img", sha256.Sum256(nil)))
	d.write("own.meta4", metalink(direct.URL+"/os.img", sha256.Sum256(image)))
	d.want(0, "is what was published in own.meta4", "fetch", "--to", "there", "own.meta4").mentions(t,
		"os.img.meta4 at", "has another digest than was published, and is not used")
}

// TestBadDownloads has a sentence and a status for each, and nothing of use is lost.
func TestBadDownloads(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t, demo.Good, demo.Good+".data")
	h := d.site(publisher.Faults{})
	card := bytes.Clone(d.read(demo.Good + ".data"))
	d.env = append(d.env, "ZIPSTAMP_PATIENCE=1s", "ZIPSTAMP_TRIES=2")
	for _, c := range []struct {
		f      publisher.Faults
		what   string
		status int
		says   string
	}{
		{publisher.Faults{Status: 404}, osXZ, 7, "there is no file at " + h.url + osXZ},
		{publisher.Faults{Status: 403}, osXZ, 7, "doesn't let everybody have that file"},
		{publisher.Faults{Status: 429, RetryAfter: time.Hour}, osXZ, 7, "it wants to be asked again in 1 h"},
		{publisher.Faults{Status: 500}, osXZ, 7, "has a fault of its own (status 500)"},
		{publisher.Faults{SignInPage: true}, osXZ, 3, "sent a web page in place of the file: perhaps one to sign in " +
			"on"},
		{publisher.Faults{StallAfter: 1}, osXZ, 7, "sends nothing any more"},
		{publisher.Faults{Redirect: "/" + osXZ}, osXZ, 7, "from one place to the next without an end"},
		{publisher.Faults{Redirect: "http://saltmarsh.example/"}, osXZ, 2, "is not an address of https"},
		{publisher.Faults{}, "nothing.img", 7, "there is no file at"},
		{publisher.Faults{}, "os.torrent", 2, "torrents can't be fetched"},
	} {
		h.Faults = c.f
		d.want(c.status, c.says, "fetch", h.url+c.what).mentions(t, "Next:")
		d.want(c.status, c.says, "stamp", "--yes", "--unchecked", h.url+c.what, demo.Good)
	}
	// what is bound to be refused is, before a byte is written
	h.Faults = publisher.Faults{}
	sums := d.read("site/" + demo.Sums)
	d.write("site/"+demo.Sums, fmt.Appendf(nil, "%x  other.img\n", sha256.Sum256(nil)))
	for _, how := range []string{"--yes", "--dry-run"} {
		r := d.want(3, "", "stamp", how, h.url+osXZ, demo.Good)
		r.mentions(t, demo.Sums, "does not name")
	}
	d.write("site/"+demo.Sums, sums)
	assert.Equal(t, card, d.read(demo.Good+".data"), "no card was touched")
	d.want(7, "no host is known by the name", "fetch", "https://saltmarsh.invalid/os.img")
	assert.NotContains(t, d.want(0, "", "shelf").out, " 0 B", "of what never came, nothing is there")
	assert.NotContains(t, d.want(2, "is not an address of https", "fetch", "ftp://saltmarsh.example/x").err,
		"--plain-http")
	d.want(2, "torrents can't be fetched", "fetch", "magnet:?xt=urn:btih:ebb")
	d.want(2, "is here already", "fetch", "good.card")
	d.want(2, "you keep no list of systems", "fetch", "saltmarsh-os")
	d.want(2, "is not a folder", "fetch", "--to", "nowhere/else", h.url+osXZ)
	d.want(2, "did you mean zipstamp fetch https://saltmarsh.example/os.img?", "fetch", "saltmarsh.example/os.img")
	own := d.env
	d.env = append(own, "SSL_CERT_FILE=/dev/null", "SSL_CERT_DIR=/nonexistent")
	d.want(7, "signed by nobody whom this computer trusts", "fetch", h.url+osXZ)
	d.env = own
	h.Faults = publisher.Faults{}
	d.want(7, "the certificate that came is not that of localhost", "fetch", strings.Replace(h.url, "127.0.0.1",
		"localhost", 1)+osXZ)
	testbed.NeedRoot(t)
	d.sh("mkdir full; mount -t tmpfs -o size=1m none full")
	t.Cleanup(func() { d.sh("umount full") })
	d.want(1, "the disk is too full: 2.84 MB are needed", "fetch", "--to", "full", h.url+osXZ)
}

// TestMetalinkFile has a mirror with a wrong byte, one that is gone, and a good one: each piece that is wrong is
// fetched again, and no more.
func TestMetalinkFile(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t, demo.Good, demo.Good+".data")
	image := unpack[:8<<20]
	d.write("site/os.img", image)
	bad := httptest.NewTLSServer(&publisher.Host{Folder: d.path("site"), Faults: publisher.Faults{WrongPiece: 5 << 20}})
	t.Cleanup(bad.Close)
	h := d.newHost("site", publisher.Faults{})
	var pieces strings.Builder
	for i := 0; i < len(image); i += 1 << 20 {
		fmt.Fprintf(&pieces, "<hash>%x</hash>", sha256.Sum256(image[i:i+1<<20]))
	}
	text := fmt.Sprintf(`<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="os.img"><size>%d</size>`+
		`<hash type="sha-256">%x</hash><pieces length="1048576" type="sha-256">%s</pieces>`+
		`<url priority="1">%s/os.img</url>`+
		`<url priority="2">%sgone.img</url><url priority="3">%sos.img</url></file></metalink>`, len(image),
		sha256.Sum256(image), pieces.String(), bad.URL, h.url, h.url)
	d.write("os.meta4", []byte(text))
	d.want(0, "is what was published in os.meta4: its SHA-256 agrees", "fetch", "os.meta4").mentions(t,
		"The piece at 5.24 MB from", "the next mirror is asked")
	assert.LessOrEqual(t, h.Sent.Load(), int64(3<<20+100_000))
	d.write("site/os.img.meta4", []byte(text))
	d.want(0, "Stamped and read back", "stamp", "--yes", h.url+"os.img", demo.Good)
	assert.Equal(t, image, d.read(demo.Good + ".data")[:len(image)])
	d.write("bad.meta4", []byte(strings.Replace(text, "</file>", "", 1)))
	d.want(2, "is no Metalink document", "fetch", "bad.meta4")
	d.want(2, "there is no file", "fetch", "none.meta4")
}

// TestStampWhileItArrives has a download that breaks off while it is written: the card is not begun again. And nothing
// is stamped that is not what was published, though it was written but for its first block.
func TestStampWhileItArrives(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t, demo.Key, demo.Good, demo.Good+".data", demo.Tired, demo.Tired+".data")
	h := d.site(publisher.Faults{CutAfter: 700_000, Cuts: 3, Rate: 20e6})
	r := d.want(0, "every block of saltmarsh-os.img.xz", "stamp", "--yes", "--key", demo.Key, "--receipt", "r.json",
		h.url+osXZ, demo.Good)
	r.mentions(t, "signed by the key that you named", "from "+h.url, "The download carries on at 700 kB")
	assert.Len(t, regexp.MustCompile(`good\.card write: .* in `).FindAllString(r.err, -1), 1,
		"the card is not begun again: "+r.err)
	assert.Equal(t, unpack, d.read(demo.Good + ".data")[:len(unpack)])
	require.Len(t, d.onShelf(osXZ), 1)
	assert.Equal(t, h.url+osXZ, document(t, run{out: string(d.read("r.json"))})["image"].(map[string]any)["url"])
	d.want(0, "is as it was stamped", "recheck", "--against", "r.json", demo.Good)

	// of two cards, one stores a bit wrong: it is written again, out of what is on the shelf by then
	h = d.site(publisher.Faults{Rate: 20e6})
	// places are not tried before: one of them may be that which is stored wrong once
	both := d.want(0, "2 cards", "stamp", "--yes", "--no-spots", "--write-all", h.url+osXZ, demo.Good, demo.Tired)
	both.mentions(t, "repaired: 1 block")
	assert.Equal(t, unpack, d.read(demo.Tired + ".data")[:len(unpack)])

	h = d.site(publisher.Faults{Rate: 20e6})
	d.want(3, "its SHA-256 differs", "stamp", "--yes", "--digest", fmt.Sprintf("%x", sha256.Sum256(nil)), h.url+osXZ,
		demo.Good).mentions(t, "nothing was written to the card")
	assert.Equal(t, unpack, d.read(demo.Good + ".data")[:len(unpack)], "it had the same before")
	clear := func() { d.sh("dd if=/dev/urandom of=" + demo.Good + ".data bs=1M count=47 conv=notrunc status=none") }
	clear()
	h = d.site(publisher.Faults{Rate: 20e6})
	d.want(3, "its SHA-256 differs", "stamp", "--yes", "--digest", fmt.Sprintf("%x", sha256.Sum256(nil)), h.url+osXZ,
		demo.Good).mentions(t, "the card has no partition table")
	assert.Equal(t, make([]byte, 512), d.read(demo.Good + ".data")[:512])
	clear()
	h = d.site(publisher.Faults{CutAfter: 2_200_000})
	h.Faults.Cuts = 1
	d.env = append(d.env, "ZIPSTAMP_TRIES=1")
	d.want(7, "the connection to", "stamp", "--yes", h.url+osXZ, demo.Good).mentions(t,
		"the card has no partition table")
	d.want(0, "Stamped and read back", "stamp", "--yes", h.url+osXZ, demo.Good).mentions(t, "carries on at")
	d.want(2, "", "stamp", "--yes", "--dry-run", h.url+osXZ)
	d.want(0, "would be stamped onto good.card", "stamp", "--yes", "--dry-run", d.site(publisher.Faults{}).url+osXZ,
		demo.Good)
}

// TestSystems makes a list of a folder, signs it, keeps it, and stamps by name.
func TestSystems(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	testbed.NeedTool(t, "minisign")
	d := newDesk(t, demo.Good, demo.Good+".data", osXZ)
	d.sh("mkdir site; cp " + osXZ + " site/saltmarsh-os-1.2.img.xz; minisign -GW -p club.pub -s club.key >/dev/null")
	h := d.newHost("site", publisher.Faults{})
	sign := func() { d.sh("minisign -S -s club.key -m site/systems.toml >/dev/null; touch -d '2 hours ago' site/*") }
	d.want(2, "--name is missing", "systems", "make", "site")
	made := d.want(0, "has 1 system now; it is edition 1", "systems", "make", "site", "--name", "Saltmarsh Watchers")
	made.mentions(t,
		"minisign -S -m site/systems.toml")
	list := string(d.read("site/systems.toml"))
	for _, part := range []string{
		"name = 'saltmarsh-os'", "version = '1.2'", "boards = ['brindle2', 'brindle3']", "size = 2841624",
		"unpacked_size = 49300480", "smallest_card = 64000000",
	} {
		assert.Contains(t, list, part)
	}
	d.want(2, "is not signed, and there is no terminal", "systems", "add", h.url+"systems.toml")
	sign()
	d.want(2, "is signed by key", "systems", "add", h.url+"systems.toml")
	no := d.typed(80, "no\n", "systems", "add", h.url+"systems.toml")
	assert.Contains(t, plain(no.out), "the name was not typed, so the list Saltmarsh Watchers is not kept")
	yes := d.typed(80, "saltmarsh watchers\n", "systems", "add", h.url+"systems.toml")
	assert.Contains(t, plain(yes.out), "It is not signed.")
	r := d.want(0, "is what was published at", "fetch", "saltmarsh-os")
	assert.NotContains(t, r.out, "igned by", "nothing of a list that is not signed says that it is")
	d.want(0, "", "systems", "remove", "Saltmarsh Watchers")
	d.want(0, "", "shelf", "clean", "--yes", "--keep", "0")
	d.want(0, "is kept: 1 system, signed by", "systems", "add", h.url+"systems.toml", "--key", "club.pub")
	document(t, d.want(0, "", "systems", "lists", "--json"))
	d.sh("cp site/systems.toml other.toml")
	d.want(2, "you keep a list of the name Saltmarsh Watchers already", "systems", "add", "--yes", "other.toml")

	d.want(0, "1 system in 1 list", "systems").mentions(t, "saltmarsh-os 1.2", "for brindle2 and brindle3")
	d.want(0, "No system in 1 list fits", "systems", "--board", "heron")
	r = d.want(0, "Stamped and read back", "stamp", "--yes", "--receipt", "r.json", "Saltmarsh-OS", demo.Good)
	r.mentions(t, "from saltmarsh-os 1.2, "+h.url, "signed by")
	assert.Equal(t, unpack, d.read(demo.Good + ".data")[:len(unpack)])
	d.want(0, "", "stamp", "--yes", "saltmarsh-os@1.2", demo.Good)
	d.want(0, "", "systems", "--search", "marsh").mentions(t, "on the shelf", "on card SW-0001 since today")
	doc := document(t, d.want(0, "", "systems", "--json"))
	assert.Equal(t, true, doc["list"].([]any)[0].(map[string]any)["signed"])
	d.want(0, "is what was published, and signed by", "fetch", "saltmarsh-os")

	// with another first mirror it is still the same file
	d.sh("sed -i \"s/^urls = .*/urls = ['other.img.xz', 'saltmarsh-os-1.2.img.xz']/; s/^edition = 1/edition = 2/\" " +
		"site/systems.toml")
	sign()
	d.want(0, "1 new", "systems", "refresh")
	again := document(t, d.want(0, "", "fetch", "--json", "saltmarsh-os@1.2"))
	assert.Equal(t, []any{true, 0.0}, []any{again["from_shelf"], again["fetched"]})
	assert.Len(t, d.onShelf("*.img.xz"), 1)
	d.sh("sed -i \"s/'other.img.xz', //\" site/systems.toml")

	// the name is the signed list's: another list's system of it is another one, however new
	pond := strings.NewReplacer("'Saltmarsh Watchers'", "'Pond Weed'", "1.2", "1.3", "edition = 1", "edition = 7",
		"date = ", "date = '2030-01-01' # ", "sha256:9410", "sha256:0000").Replace(list)
	d.write("pond.toml", []byte(strings.ReplaceAll(pond, "urls = ['", "urls = ['"+h.url)))
	d.want(0, "", "systems", "add", "--yes", "pond.toml").mentions(t,
		"The list Saltmarsh Watchers had the name of saltmarsh-os first, with a signature",
		"zipstamp fetch Pond-Weed/saltmarsh-os")
	d.want(0, "is what was published, and signed by", "fetch", "saltmarsh-os")
	d.want(0, "2 systems in 2 lists", "systems").mentions(t, "in the list Pond Weed, which is not signed",
		"this one is fetched as Pond-Weed/saltmarsh-os")
	d.want(2, "to which the name belongs, has no saltmarsh-os@1.3", "fetch", "saltmarsh-os@1.3").mentions(t,
		"zipstamp fetch Pond-Weed/saltmarsh-os@1.3")
	d.want(7, "an address within a private network", "fetch", "pond-weed/saltmarsh-os")
	d.want(0, "Nothing", "shelf", "clean", "--yes")
	d.want(0, "", "systems", "remove", "pond weed")

	// what was written by hand stays; older lists, others' and changed ones are refused
	older := d.read("site/systems.toml")
	d.write(
		"site/systems.toml", bytes.Replace(older, []byte("boards ="), []byte("notes = 'for the pier'\nboards ="), 1),
	)
	document(t, d.want(0, "edition 3", "systems", "make", "site", "--json"))
	assert.Contains(t, string(d.read("site/systems.toml")), "notes = 'for the pier'")
	d.sh("touch -d '1 hour ago' site/*")
	d.want(3, "1 not renewed", "systems", "refresh").mentions(t, "its signature is bad")
	sign()
	d.want(0, "1 new", "systems", "refresh")
	d.write("site/systems.toml", older)
	d.sh("minisign -S -s club.key -m site/systems.toml >/dev/null")
	d.sh("touch -d '20 minutes ago' site/*")
	d.want(3, "1 not renewed", "systems", "refresh").mentions(t, "goes back to an older edition")
	d.want(0, "", "systems").mentions(t, "for the pier")

	// a list can't lead into a private network, and one past its time is said to be old
	text := fmt.Sprintf("zipstamp_systems = 1\nname = 'Elsewhere'\nedition = 1\nexpires = "+
		"2020-01-01T00:00:00Z\n[[system]]\n"+
		"name = 'Ebb'\nversion = '1'\ndate = '2019-01-01'\nurls = ['https://127.0.0.1:9/x.img', "+
		"'file:///etc/x']\nsize = 5\n"+
		"digest = 'sha256:%x'\n", sha256.Sum256(nil))
	d.write("bad.toml", []byte(text))
	d.want(3, "no address of https", "systems", "add", "--yes", "bad.toml")
	d.write("bad.toml", []byte(strings.Replace(text, ", 'file:///etc/x'", "", 1)))
	d.want(0, "It is not signed", "systems", "add", "--yes", "bad.toml")
	d.want(7, "an address within a private network", "fetch", "Ebb").mentions(t,
		"should have been renewed by 1 January 2020")
	own := d.env
	d.env = append(own, "HTTPS_PROXY=http://127.0.0.1:1", "NO_PROXY=")
	d.want(7, "an address within a private network", "fetch", "Ebb")
	d.env = own
	d.want(2, "did you mean saltmarsh-os", "fetch", "saltmarsh-so")

	// a damaged list is named, the others work, and it is added again or removed
	for _, repair := range [][]string{{"add", "--yes", "bad.toml"}, {"remove", "elsewhere"}} {
		damaged := d.found("state/zipstamp/lists/elsewhere*")
		require.Len(t, damaged, 1)
		require.NoError(t, os.WriteFile(damaged[0], []byte("{"), 0o600))
		d.want(0, "1 system in 1 list", "systems").mentions(t, "elsewhere-", "is damaged", "saltmarsh-os 1.2")
		r = d.want(0, "", append([]string{"systems"}, repair...)...)
		assert.NotContains(t, d.want(0, "", "systems").err, "damaged", r.err)
	}
	d.want(2, "you keep no list of the name Elsewhere", "systems", "remove", "Elsewhere")
}

// TestServe has the stand-in of the product itself, and a download that is interrupted, killed, and carried on.
func TestServe(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Key, demo.Sums, demo.Sums+".minisig")
	d.want(2, "is not a folder", "practice", "serve", osXZ)
	cmd := d.command("practice", "serve", ".", "--rate", "1MB/s")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	var said strings.Builder
	for !strings.Contains(said.String(), "Ctrl-C") {
		b := make([]byte, 256)
		n, err := out.Read(b)
		require.NoError(t, err)
		said.Write(b[:n])
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	at := said.String()[strings.Index(said.String(), "http://"):]
	url := strings.Fields(at)[0] + osXZ
	for i, signal := range []os.Signal{os.Interrupt, syscall.SIGKILL} {
		fetch := d.command("fetch", "--plain-http", "--key", demo.Key, url)
		var words bytes.Buffer
		fetch.Stderr = &words
		require.NoError(t, fetch.Start())
		require.Eventually(t, func() bool { // some of it has come
			parts, err := filepath.Glob(d.path("cache/zipstamp/shelf/*/part"))
			if err != nil || len(parts) != 1 {
				return false
			}
			info, err := os.Stat(parts[0])
			return err == nil && info.Size() >= int64(i+1)<<19
		}, time.Minute, 10*time.Millisecond)
		require.NoError(t, fetch.Process.Signal(signal))
		_ = fetch.Wait()
		if signal == os.Interrupt {
			assert.Equal(t, 130, fetch.ProcessState.ExitCode())
			assert.Contains(t, words.String(), "the same command carries on there")
		}
	}
	d.want(0, "", "shelf").mentions(t, "of 2.84 MB have come")
	both := make(chan run, 2) // and two at once share it
	for range 2 {
		go func() { both <- d.zipstamp("fetch", "--plain-http", "--key", demo.Key, url) }()
	}
	waited := 0
	for range 2 {
		r := <-both
		assert.Zero(t, r.status, r.err)
		assert.Contains(t, plain(r.out), "signed by the key that you named")
		waited += strings.Count(plain(r.err), "Another run of zipstamp is downloading this")
	}
	assert.LessOrEqual(t, waited, 1)
	resp, err := http.Get(strings.Fields(at)[0] + "../../../etc/hostname")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)
}

// TestWhatIsPublishedIsAskedForAgain has digests and signatures that come, change and go while the file stays: what was
// signed once isn't taken without a word when it is signed no more, or as it was before.
func TestWhatIsPublishedIsAskedForAgain(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	testbed.NeedTool(t, "minisign")
	d := newDesk(t, demo.Good, demo.Good+".data")
	h := d.newHost("site", publisher.Faults{})
	image := noiseOS(3, 8<<20)
	d.write("site/os.img", image)
	d.sh("minisign -GW -p club.pub -s club.key >/dev/null; touch -d '2 hours ago' site/*")
	url, sums := h.url+"os.img", fmt.Sprintf("%x  os.img\n", sha256.Sum256(image))
	published := func(text string, signedAt int) {
		d.sh("rm -f site/SHA256SUMS*")
		if text != "" {
			d.write("site/SHA256SUMS", []byte(text))
		}
		if signedAt > 0 {
			d.sh(fmt.Sprintf("minisign -S -s club.key -m site/SHA256SUMS -t timestamp:%d >/dev/null", signedAt))
		}
	}
	d.want(0, "Nothing was compared", "fetch", url)
	var asked []string
	h.Told = func(s publisher.Served) { asked = append(asked, s.Path) }
	published(sums, 0)
	d.want(0, "is what was published", "fetch", url)
	assert.Less(t, len(asked), 16, "%q", asked)
	d.want(0, "", "keys", "add", "club.pub", "--fingerprint", strings.TrimSpace(d.sh("tail -1 club.pub")))
	d.want(0, "is what was published", "fetch", url)
	published(sums, 1_790_000_000)
	d.want(0, "signed by", "fetch", url)
	d.want(0, "", "shelf", "clean", "--yes", "--keep", "0") // it is remembered all the same

	card := bytes.Clone(d.read(demo.Good + ".data"))
	refused := func(why string) {
		t.Helper()
		for i, more := range [][]string{nil, {"--dry-run"}, nil} {
			if i == 2 { // while it arrives
				d.want(0, "", "shelf", "clean", "--yes", "--keep", "0")
			}
			d.want(3, why, append([]string{"stamp", "--yes", url, demo.Good}, more...)...).mentions(t, "--unchecked")
			assert.Equal(t, card, d.read(demo.Good+".data"), "the card was not touched")
		}
		assert.Contains(t, plain(d.typed(80, "no\n", "stamp", url, demo.Good).out), why)
		d.want(0, why, "fetch", url)
	}
	published(sums, 1_780_000_000)
	refused("it goes back to something older")
	d.sh("cd site; for f in SHA256SUMS*; do mv $f os.img.sha256${f#SHA256SUMS}; done") // and has another name
	refused("it goes back to something older")
	d.sh("rm site/os.img.*")
	d.want(0, "", "shelf", "clean", "--yes", "--keep", "0")
	published("# high water\n"+sums, 0)
	refused("and this is not signed")
	published("", 0)
	d.write("site/os.img.sha256", []byte(sums))
	refused("and this is not signed")
	// what the user says counts more, and a key that isn't known any more tells nothing
	d.want(0, "Stamped and read back", "stamp", "--yes", "--digest", sums[:64], url, demo.Good)
	d.write("own.txt", []byte(sums))
	assert.NotContains(t, d.want(0, "is what was published", "fetch", "--sums", "own.txt", url).out, "published at")
	d.want(0, "", "keys", "remove", strings.TrimSpace(d.sh("tail -1 club.pub")))
	d.want(0, "Stamped and read back", "stamp", "--yes", url, demo.Good)
	d.want(0, "", "keys", "add", "club.pub", "--fingerprint", strings.TrimSpace(d.sh("tail -1 club.pub")))
	d.want(0, "Stamped and read back", "stamp", "--yes", "--unchecked", url, demo.Good)
	published(sums, 1_790_000_001)
	d.want(0, "signed by", "stamp", "--yes", url, demo.Good)
	published(fmt.Sprintf("%x  os.img\n", sha256.Sum256(nil)), 1_790_000_002)
	d.want(3, "is not what was published", "fetch", url)
}

// TestWhatIsLentIsNotTakenForWhatTheAddressHad has one image at two addresses. What is signed at one tells nothing of
// the other, whichever of the two was downloaded.
func TestWhatIsLentIsNotTakenForWhatTheAddressHad(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	testbed.NeedTool(t, "minisign")
	d := newDesk(t)
	h := d.newHost("site", publisher.Faults{})
	image := noiseOS(3, 2<<20)
	for _, name := range []string{"a", "b"} {
		d.write("site/"+name+"/os.img", image)
	}
	sum := fmt.Sprintf("%x", sha256.Sum256(image))
	d.write("site/b/os.meta4", []byte(`<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="os.img">
<hash type="sha-256">`+sum+`</hash><url>`+h.url+`b/os.img</url></file></metalink>`))
	d.write("site/a/SHA256SUMS", []byte(sum+"  os.img\n"))
	d.sh("minisign -GW -p club.pub -s club.key >/dev/null; minisign -S -s club.key -m site/a/SHA256SUMS >/dev/null")
	d.want(0, "", "keys", "add", "club.pub", "--fingerprint", strings.TrimSpace(d.sh("tail -1 club.pub")))
	empty := func() { d.want(0, "", "shelf", "clean", "--yes", "--keep", "0") }

	d.want(0, "signed by", "fetch", h.url+"a/os.img")
	var came []string
	h.Told = func(s publisher.Served) { came = append(came, s.Path) }
	d.want(0, "signed by", "fetch", h.url+"b/os.meta4")
	assert.NotContains(t, came, "/b/os.img", "it is on the shelf")
	empty()
	assert.NotContains(t, d.want(0, "is what was published", "fetch", h.url+"b/os.meta4").out, "not signed")

	d.sh("cp site/a/SHA256SUMS* site/b")
	d.want(0, "signed by", "fetch", h.url+"b/os.img")
	empty()
	d.sh("rm site/*/SHA256SUMS*; touch -d '1 hour ago' site/a/*")
	d.write("site/a/SHA256SUMS", []byte(sum+"  os.img\n"))
	d.want(0, "and this is not signed", "fetch", h.url+"a/os.img")
	d.want(0, "What "+h.url+"b/os.img had before", "fetch", h.url+"b/os.meta4").mentions(t, "and this is not signed")
}

// TestFileOnTheShelfThatChanged on the disk is neither stamped nor taken for what was published, whoever asks for it.
func TestFileOnTheShelfThatChanged(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t, demo.Good, demo.Good+".data")
	h := d.newHost("site", publisher.Faults{})
	image := noiseOS(3, 2<<20)
	d.write("site/a/os.img", image)
	d.write("site/b/os.img", image)
	d.write("site/b/os.meta4", fmt.Appendf(nil, `<metalink xmlns="urn:ietf:params:xml:ns:metalink">`+
		`<file name="os.img"><hash type="sha-256">%x</hash><url>%sb/os.img</url></file></metalink>`,
		sha256.Sum256(image), h.url))
	card := bytes.Clone(d.read(demo.Good + ".data"))
	change := func() {
		for _, path := range d.onShelf("os.img") {
			other := bytes.Clone(image)
			other[1<<20] ^= 1
			require.NoError(t, os.WriteFile(path, other, 0o600))
		}
	}
	for _, args := range [][]string{
		{"stamp", "--yes", "--unchecked", h.url + "a/os.img", demo.Good},
		{"stamp", "--yes", h.url + "b/os.meta4", demo.Good}, // lent
		{"fetch", h.url + "a/os.img"},
	} {
		d.want(0, "", "fetch", h.url+"a/os.img")
		change()
		d.want(3, "os.img on the shelf has changed since it was downloaded", args...)
		assert.Equal(t, card, d.read(demo.Good+".data"), "the card was not touched")
	}
	d.want(0, "Stamped and read back", "stamp", "--yes", h.url+"b/os.meta4", demo.Good)
	d.want(0, "", "fetch", " "+h.url+"a/os.img ")
}

// TestSumsOfARedirect lie beside what it leads to. A page in the place of each file that isn't there is none.
func TestSumsOfARedirect(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t)
	h := d.newHost("site", publisher.Faults{})
	image := noiseOS(3, 2<<20)
	d.write("site/9/os-1.2.img", image)
	d.sh("touch -d '2 hours ago' site/9/*")
	front := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/latest" {
			http.Redirect(w, r, h.url+"9/os-1.2.img", http.StatusFound)
			return
		}
		fmt.Fprintf(w, "Not found. The number of this request is %x.\n", sha256.Sum256([]byte(r.URL.Path)))
	}))
	t.Cleanup(front.Close)
	d.want(0, "Nothing was compared", "fetch", front.URL+"/latest").mentions(t, "/os-1.2.img")
	d.write("site/9/SHA256SUMS", fmt.Appendf(nil, "%x  os-1.2.img\n", sha256.Sum256(image)))
	d.want(0, "os-1.2.img is what was published at "+strings.Trim(h.url, "htps:/"), "fetch", front.URL+"/latest")
}

// TestFetchIntoAFolder makes the folder, has two runs do the same at once, and leaves nothing hidden in it.
func TestFetchIntoAFolder(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t)
	h := d.newHost("site", publisher.Faults{Rate: 2_000_000})
	image := noiseOS(3, 4<<20)
	d.write("site/os.img", image)
	url := h.url + "os.img"
	r := d.want(3, "Nothing was compared", "fetch", "--must-match", "--to", "here", url)
	r.mentions(t, "The folder here is made.")
	assert.NotContains(t, r.out, "zipstamp check", "of a file that is gone")
	assert.Empty(t, d.sh("ls -A here"))
	d.want(0, "zipstamp check --digest DIGEST there/os.img", "fetch", "--to", "there", url)
	both := make(chan run, 2)
	for range 2 {
		go func() { both <- d.zipstamp("fetch", "--to", "here", url) }()
	}
	one, two := <-both, <-both
	assert.ElementsMatch(t, []int{0, 2}, []int{one.status, two.status}, "%s%s", one.err, two.err)
	assert.Contains(t, plain(one.err+two.err), "os.img exists already")
	assert.Equal(t, "os.img\n", d.sh("ls -A here"))
	assert.True(t, bytes.Equal(image, d.read("here/os.img")))

	// one that is ended is carried on; files of digests that don't name it don't keep it from being used
	d.write("site/SHA256SUMS", fmt.Appendf(nil, "%x  other.img\n", sha256.Sum256(nil)))
	d.sh("rm here/*")
	came := func() bool {
		parts := d.found("here/.zipstamp-*/part")
		return len(parts) == 1 && d.holds(strings.TrimPrefix(parts[0], d.path("")+"/"), 1<<20, image[1<<20:][:512])
	}
	r = d.interrupt(came, "fetch", "--to", "here", url)
	assert.Equal(t, 130, r.status, r.out)
	h.Faults = publisher.Faults{}
	d.want(3, "SHA256SUMS does not name", "fetch", "--to", "here", url).mentions(t, "carries on at", "kept here/os.img")
	assert.Equal(t, "SHA256SUMS\nos.img\n", d.sh("ls -A here"))
	d.want(3, "SHA256SUMS does not name", "fetch", url)
	assert.NotContains(t, d.want(0, "", "shelf").out, "of no use")
}

// TestNothingCountsAsWholeByChance: of a connection that just ends nobody knows whether all came, and what can't be
// unpacked isn't carried on.
func TestNothingCountsAsWholeByChance(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t, demo.Good, demo.Good+".data")
	h := d.newHost("site", publisher.Faults{})
	image := noiseOS(3, 24<<20)
	ends := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/os.img" {
			http.NotFound(w, r)
			return
		}
		conn, _, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		_, _ = conn.Write(append([]byte("HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n"), image[:20<<20]...))
		conn.Close()
	}))
	t.Cleanup(ends.Close)
	url := ends.URL + "/os.img"
	d.want(7, "may be incomplete: the connection ended after 21.0 MB", "fetch", url)
	d.want(7, "may be incomplete", "fetch", "--to", "here", url)
	assert.Empty(t, d.sh("ls -A here"))
	d.want(7, "may be incomplete", "stamp", "--yes", "--unchecked", url, demo.Good)
	assert.Equal(t, make([]byte, 512), d.read(demo.Good + ".data")[:512], "it can't start a board")
	d.want(0, "is what was published", "fetch", "--digest", fmt.Sprintf("%x", sha256.Sum256(image[:20<<20])), url)

	packed, err := os.ReadFile(filepath.Join(sample, osXZ))
	require.NoError(t, err)
	d.write("site/os.img.xz", packed)
	h.Faults = publisher.Faults{WrongPiece: 1_200_000, Rate: 1_000_000}
	d.want(3, "is damaged", "stamp", "--yes", "--unchecked", h.url+"os.img.xz", demo.Good)
	h.Faults = publisher.Faults{}
	d.want(0, "Stamped and read back", "stamp", "--yes", "--unchecked", h.url+"os.img.xz", demo.Good).mentions(t,
		"that were kept can't be right, so they are fetched again")
	assert.Equal(t, unpack, d.read(demo.Good + ".data")[:len(unpack)])
}

// TestWrongAnswerInTheMidst destroys nothing of what has come: another file, short, comes in place of the rest, and
// some other time the rest comes.
func TestWrongAnswerInTheMidst(t *testing.T) {
	t.Parallel()
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	d := newDesk(t)
	h := d.newHost("site", publisher.Faults{CutAfter: 20 << 20})
	image := noiseOS(3, 24<<20)
	d.write("site/os.img", image)
	d.sh("touch -d '2 hours ago' site/*")
	portal := false
	front := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if portal && r.URL.Path == "/os.img" {
			w.Header().Set("ETag", `"portal"`)
			_, _ = io.WriteString(w, strings.Repeat("Please pay for the network. ", 9000))
			return
		}
		defer func() { portal = portal || r.URL.Path == "/os.img" }()
		h.ServeHTTP(w, r)
	}))
	t.Cleanup(front.Close)
	url := front.URL + "/os.img"
	d.want(3, "is text, not an image", "fetch", url).mentions(t, "another one by now, so the download starts over")
	portal, h.Faults = false, publisher.Faults{}
	sent := h.Sent.Load()
	d.want(0, "25.2 MB", "fetch", url).mentions(t, "carries on at 21.0 MB")
	assert.Less(t, h.Sent.Load()-sent, int64(5<<20))
	onShelf := func(want []byte) {
		t.Helper()
		require.Len(t, d.onShelf("os.img"), 1)
		on, err := os.ReadFile(d.onShelf("os.img")[0])
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, on))
		assert.Empty(t, d.found("cache/zipstamp/shelf/*/*.old"))
	}
	onShelf(image)

	// one that is another one indeed comes as before
	d.want(0, "1 download removed", "shelf", "clean", "--yes", "--keep", "0")
	url = h.url + "os.img"
	h.Faults = publisher.Faults{CutAfter: 20 << 20}
	h.Told = func(s publisher.Served) {
		if s.Path == "/os.img" {
			h.Faults.Status = 500
		}
	}
	d.want(7, "has a fault of its own", "fetch", url)
	h.Told, h.Faults = nil, publisher.Faults{}
	other := noiseOS(4, 24<<20)
	d.write("site/os.img", other)
	d.want(0, "25.2 MB", "fetch", url).mentions(t, "another one by now, so the download starts over")
	onShelf(other)
}
