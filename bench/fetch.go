//go:build linux

package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"zipstamp/internal/publisher"
)

// Rates of what is measured, bytes a second: of the network, and of the card.
const (
	netRate       = 30e6
	cardRate      = 20e6
	cardReadRate  = 90e6
	mostForStamps = 256 << 20 // bytes; more only takes longer
)

// fetching is a host on this computer, and a program that fetches from it.
type fetching struct {
	*bench
	host *publisher.Host
	url  string
	sum  string
	mu   sync.Mutex // guards faults while answers begin
	cut  func() int64
}

// runFetch measures downloads against a stand-in for a publisher.
func runFetch(work string, size int64, rounds int) error {
	work = filepath.Join(work, "fetch") // where no digests lie beside the images
	f := &fetching{bench: &bench{work: work, size: size}}
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	if err := f.build(); err != nil {
		return err
	}
	f.host = &publisher.Host{Folder: work}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		if f.cut != nil {
			f.host.Faults.CutAfter = f.cut()
		}
		f.mu.Unlock()
		f.host.ServeHTTP(w, r)
	}))
	defer server.Close()
	f.url = server.URL + "/disk.img"
	if err := f.stamps(min(size, mostForStamps), rounds); err != nil {
		return err
	}
	if err := f.cuts(size); err != nil {
		return err
	}
	return f.list(10_000, rounds)
}

// image makes the image, and its digest.
func (f *fetching) image(size int64) error {
	f.size = size
	if err := f.makeImage(); err != nil {
		return err
	}
	out, err := f.shell("sha256sum disk.img | cut -d' ' -f1; rm -rf cache state")
	f.sum = strings.TrimSpace(out)
	return err
}

func (f *fetching) run(ctx context.Context, args ...string) (time.Duration, error) {
	cmd := exec.CommandContext(ctx, f.tool, args...)
	cmd.Dir = f.work
	cmd.Env = append(os.Environ(), "NO_COLOR=1", "XDG_CACHE_HOME="+f.path("cache"), "XDG_STATE_HOME="+f.path("state"))
	start := time.Now()
	out, err := cmd.CombinedOutput()
	if err != nil && ctx.Err() == nil {
		err = fmt.Errorf("%s: %w\n%s", strings.Join(args, " "), err, out)
	}
	return time.Since(start), err
}

// stamps measures a stamp while the image is downloaded.
func (f *fetching) stamps(size int64, rounds int) error {
	if err := f.image(size); err != nil {
		return err
	}
	ctx := context.Background()
	make := fmt.Sprintf("rm -f b.card*; ./zipstamp practice new b.card --claimed %d --write-rate %dMB/s --read-rate "+
		"%dMB/s "+
		">/dev/null", size+64<<20, int(cardRate/1e6), int(cardReadRate/1e6))
	if _, err := f.shell(make); err != nil {
		return err
	}
	f.host.Faults = publisher.Faults{Rate: netRate}
	digest := []string{"--plain-http", "--digest", f.sum}
	stamp := append([]string{"stamp", "--yes", "--no-spots"}, digest...)
	var fetch, write, back, both, steps []time.Duration
	var again int64
	for range rounds {
		if _, err := f.shell("rm -rf cache"); err != nil {
			return err
		}
		d1, err := f.run(ctx, append(append([]string{"fetch"}, digest...), f.url)...)
		if err != nil {
			return err
		}
		d2, err := f.run(ctx, append(stamp, f.url, "b.card")...) // from the shelf, with its check
		if err != nil {
			return err
		}
		sent := f.host.Sent.Load()
		if _, err := f.run(ctx, append(stamp, f.url, "b.card")...); err != nil {
			return err
		}
		again = max(again, f.host.Sent.Load()-sent)
		d3, err := f.run(ctx, "stamp", "--yes", "--no-spots", "--unchecked", "--no-read-back", "disk.img", "b.card")
		if err != nil {
			return err
		}
		d4, err := f.run(ctx, "stamp", "--yes", "--no-spots", "--unchecked", "disk.img", "b.card")
		if err != nil {
			return err
		}
		if _, err := f.shell("rm -rf cache"); err != nil {
			return err
		}
		d5, err := f.run(ctx, append(stamp, f.url, "b.card")...)
		if err != nil {
			return err
		}
		fetch, write, back = append(fetch, d1), append(write, d3), append(back, d4-d3)
		both, steps = append(both, d5), append(steps, d1+d2)
	}
	a, w, r, b, s := median(fetch), median(write), median(back), median(both), median(steps)
	fmt.Printf("a raw image of %d MiB, at %.0f MB/s, onto a card of %.0f MB/s; median of %d rounds\n", size>>20,
		netRate/1e6,
		cardRate/1e6, rounds)
	fmt.Printf("  (a) fetch, with its check      %6.2f s\n  (b) write, not read back       %6.2f s\n", a.Seconds(),
		w.Seconds())
	fmt.Printf("  (c) reading back               %6.2f s\n  (d) fetch, check, then stamp   %6.2f s\n", r.Seconds(),
		s.Seconds())
	fmt.Printf("  stamp of the URL               %6.2f s   = %.2f of max(a, b) + c   = %.2f of d\n", b.Seconds(),
		b.Seconds()/(max(a, w)+r).Seconds(), b.Seconds()/s.Seconds())
	fmt.Printf("  again, from the shelf          %6d bytes fetched\n\n", again)
	return nil
}

// cuts breaks a download off at ten random places, and kills another one ten times.
func (f *fetching) cuts(size int64) error {
	if err := f.image(size); err != nil {
		return err
	}
	f.host.Faults = publisher.Faults{Cuts: 10}
	f.cut = func() int64 { return 1 + rand.Int64N(size/10) }
	before := f.host.Sent.Load()
	fetch := []string{"fetch", "--plain-http", "--digest", f.sum, f.url}
	if _, err := f.run(context.Background(), fetch...); err != nil {
		return err
	}
	f.cut = nil
	fmt.Printf("%d MiB, broken off at ten random places: %.4f of its length fetched\n", size>>20,
		float64(f.host.Sent.Load()-before)/float64(size))
	if _, err := f.shell("rm -rf cache"); err != nil {
		return err
	}
	f.host.Faults = publisher.Faults{Rate: 150e6}
	before = f.host.Sent.Load()
	for range 10 {
		ctx, stop := context.WithTimeout(context.Background(), time.Duration(100+rand.IntN(500))*time.Millisecond)
		_, _ = f.run(ctx, fetch...) // it is killed
		stop()
	}
	f.host.Faults = publisher.Faults{}
	if _, err := f.run(context.Background(), fetch...); err != nil {
		return err
	}
	fmt.Printf("%d MiB, killed ten times: %.4f of its length fetched (with what was on its way when it was killed)\n\n",
		size>>20, float64(f.host.Sent.Load()-before)/float64(size))
	return nil
}

// list measures a list of so many systems.
func (f *fetching) list(n, rounds int) error {
	var b bytes.Buffer
	fmt.Fprintf(&b, "zipstamp_systems = 1\nname = 'Saltmarsh Watchers'\nedition = 1\n")
	for i := range n {
		sum := sha256.Sum256(fmt.Append(nil, i))
		fmt.Fprintf(&b,
			"\n[[system]]\nname = 'Saltmarsh OS %d'\nversion = '1.%d'\ndate = '2026-11-%02d'\nboards = ['brindle3', "+
				"'brindle2']\nurls = ['https://saltmarsh.example/os-%d.img.xz']\nsize = %d\ndigest = 'sha256:%x'\n"+
				"unpacked_size = 4000000000\nunpacked_digest = 'sha256:%x'\nsmallest_card = 8000000000\n"+
				"notes = 'Tides and weather, for stations by the shore.'\n", i, i%10, 1+i%28, i, 1_000_000_000+
				i, sum, sum)
	}
	if err := os.WriteFile(f.path("systems.toml"), b.Bytes(), 0o644); err != nil {
		return err
	}
	if _, err := f.shell("rm -rf state"); err != nil {
		return err
	}
	if _, err := f.run(context.Background(), "systems", "add", "--yes", "systems.toml"); err != nil {
		return err
	}
	var all []time.Duration
	memory := ""
	for range rounds {
		cmd := exec.Command("/usr/bin/time", "-f", "%M", "-o", f.path("memory"), f.tool, "systems")
		cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+f.path("cache"), "XDG_STATE_HOME="+f.path("state"))
		cmd.Stdout = io.Discard
		start := time.Now()
		if err := cmd.Run(); err != nil {
			return err
		}
		all = append(all, time.Since(start))
		text, err := os.ReadFile(f.path("memory"))
		if err != nil {
			return err
		}
		memory = strings.TrimSpace(string(text))
	}
	fmt.Printf("listing %d systems, %d kB of TOML: %.2f s, %s kB of memory\n", n, b.Len()/1000, median(all).Seconds(),
		memory)
	return nil
}
