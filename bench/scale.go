//go:build linux

package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"zipstamp/internal/layout"
)

// dimension is something of which there may be much: make makes so many in the work folder, and gives the command whose
// time is measured.
type dimension struct {
	name  string
	sizes []int64
	make  func(b *bench, n int64) (args []string, err error)
}

// runScale measures how time and memory grow with the work: the exponent is that of n by which time grows, from the
// largest sizes on which it is longer than starting the program.
func runScale(work string, rounds int) error {
	b := &bench{work: filepath.Join(work, "scale")}
	if err := os.MkdirAll(b.work, 0o755); err != nil {
		return err
	}
	if err := b.build(); err != nil {
		return err
	}
	fmt.Println("| of | n | s | MiB |\n| --- | --- | --- | --- |")
	for _, d := range dimensions {
		if err := b.scale(d, rounds); err != nil {
			return fmt.Errorf("%s: %w", d.name, err)
		}
	}
	return nil
}

func (b *bench) scale(d dimension, rounds int) error {
	var ns, seconds []float64
	for _, n := range d.sizes {
		if _, err := b.shell("find . -mindepth 1 -maxdepth 1 ! -name zipstamp -exec rm -rf {} +"); err != nil {
			return err
		}
		args, err := d.make(b, n)
		if err != nil {
			return err
		}
		var took []time.Duration
		var memory int64
		for range rounds {
			one, kib, err := b.measured(args)
			if err != nil {
				return err
			}
			took, memory = append(took, one), max(memory, kib)
		}
		s := median(took).Seconds()
		fmt.Printf("| %s | %d | %.2f | %d |\n", d.name, n, s, memory>>10)
		if s >= 0.1 {
			ns, seconds = append(ns, math.Log(float64(n))), append(seconds, math.Log(s))
		}
	}
	if len(ns) < 2 {
		fmt.Printf("| %s | | always below 0.1 s, or only once above | |\n", d.name)
		return nil
	}
	fmt.Printf("| %s | | exponent %.2f | |\n", d.name, slope(ns, seconds))
	return nil
}

// slope is that of the line with the least squares.
func slope(x, y []float64) float64 {
	var mx, my, above, below float64
	for i := range x {
		mx, my = mx+x[i]/float64(len(x)), my+y[i]/float64(len(y))
	}
	for i := range x {
		above += (x[i] - mx) * (y[i] - my)
		below += (x[i] - mx) * (x[i] - mx)
	}
	return above / below
}

// measured runs the program; a status of its own is no error, as a card may be found to be bad.
func (b *bench) measured(args []string) (took time.Duration, kib int64, err error) {
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Minute)
	defer stop()
	cmd := exec.CommandContext(ctx, "/usr/bin/time",
		append([]string{"-f", "%M", "-o", b.path("memory"), b.tool}, args...)...)
	cmd.Dir = b.work
	cmd.Env = append(os.Environ(), "NO_COLOR=1", "XDG_STATE_HOME="+b.path("state"), "XDG_CACHE_HOME="+b.path("cache"))
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = io.Discard, &out
	start := time.Now()
	if err := cmd.Run(); err != nil {
		return 0, 0, fmt.Errorf("%s: %w\n%s", strings.Join(args, " "), err, out.Bytes()[:min(out.Len(), 2000)])
	}
	took = time.Since(start)
	text, err := os.ReadFile(b.path("memory"))
	if err != nil {
		return 0, 0, err
	}
	kib, err = strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	return took, kib, err
}

// smallImage is one of 2,000 bytes that starts like a disk.
func smallImage(i int) []byte {
	p := make([]byte, 2000)
	table := layout.MBR(uint32(i)+1, layout.Partition{Type: 0x83, Start: 1, Sectors: 2})
	copy(p, table[:])
	copy(p[1000:], fmt.Sprint(i))
	return p
}

var dimensions = []dimension{
	{"images in a folder, checked", []int64{10, 100, 1000, 3000, 10_000}, func(b *bench, n int64) ([]string, error) {
		var sums bytes.Buffer
		for i := range int(n) {
			img := smallImage(i)
			name := fmt.Sprintf("os-%d.img", i)
			fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(img), name)
			if err := os.WriteFile(b.path(name), img, 0o644); err != nil {
				return nil, err
			}
		}
		return []string{"check", "--quiet", "."}, os.WriteFile(b.path("SHA256SUMS"), sums.Bytes(), 0o644)
	}},
	{"lines of a sums file", []int64{10, 1000, 10_000, 100_000, 200_000}, func(b *bench, n int64) ([]string, error) {
		var sums bytes.Buffer
		for i := range int(n) {
			fmt.Fprintf(&sums, "%x  os-%d.img\n", sha256.Sum256(smallImage(i)), i)
		}
		if err := os.WriteFile(b.path("os-7.img"), smallImage(7), 0o644); err != nil {
			return nil, err
		}
		return []string{"check", "os-7.img"}, os.WriteFile(b.path("SHA256SUMS"), sums.Bytes(), 0o644)
	}},
	{
		"members of a tar, peeked at",
		[]int64{10, 1000, 10_000, 50_000, 99_000},
		func(b *bench, n int64) ([]string, error) {
			f, err := os.Create(b.path("many.tar"))
			if err != nil {
				return nil, err
			}
			defer f.Close()
			t := tar.NewWriter(f)
			for i := range int(n) {
				text := fmt.Appendf(nil, "%02000d", i)
				if err := t.WriteHeader(&tar.Header{
					Name: fmt.Sprintf("a/%d.txt", i), Size: int64(len(text)), Mode: 0o644,
				}); err != nil {
					return nil, err
				}
				if _, err := t.Write(text); err != nil {
					return nil, err
				}
			}
			img := append(smallImage(1), make([]byte, 1<<20)...)
			if err := t.WriteHeader(&tar.Header{Name: "disk.img", Size: int64(len(img)), Mode: 0o644}); err != nil {
				return nil, err
			}
			if _, err := t.Write(img); err != nil {
				return nil, err
			}
			return []string{"peek", "many.tar"}, t.Close()
		},
	},
	{
		"members of a zip, peeked at",
		[]int64{10, 1000, 10_000, 50_000, 99_000},
		func(b *bench, n int64) ([]string, error) {
			f, err := os.Create(b.path("many.zip"))
			if err != nil {
				return nil, err
			}
			defer f.Close()
			z := zip.NewWriter(f)
			for i := range int(n) {
				w, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("a/%d.txt", i)})
				if err != nil {
					return nil, err
				}
				if _, err := fmt.Fprintf(w, "%02000d", i); err != nil {
					return nil, err
				}
			}
			w, err := z.Create("disk.img")
			if err != nil {
				return nil, err
			}
			if _, err := w.Write(append(smallImage(1), make([]byte, 1<<20)...)); err != nil {
				return nil, err
			}
			return []string{"peek", "many.zip"}, z.Close()
		},
	},
	{"bytes of a sparse raw image, peeked at", []int64{256e6, 4e9, 64e9}, func(b *bench, n int64) ([]string, error) {
		if err := os.WriteFile(b.path("big.img"), smallImage(1), 0o644); err != nil {
			return nil, err
		}
		return []string{"peek", "big.img"}, os.Truncate(b.path("big.img"), n)
	}},
	{"bytes of a raw image, checked", []int64{256e6, 1e9, 4e9}, func(b *bench, n int64) ([]string, error) {
		if err := os.WriteFile(b.path("big.img"), smallImage(1), 0o644); err != nil {
			return nil, err
		}
		return []string{"check", "big.img"}, os.Truncate(b.path("big.img"), n)
	}},
	{"cards of 20 MB/s, stamped with 64 MB", []int64{1, 2, 4, 8, 16}, func(b *bench, n int64) ([]string, error) {
		img := append(smallImage(1), make([]byte, 64_000_000-2000)...)
		if err := os.WriteFile(b.path("os.img"), img, 0o644); err != nil {
			return nil, err
		}
		args := []string{"stamp", "--yes", "--unchecked", "--no-spots", "os.img"}
		for i := range n {
			name := fmt.Sprintf("c%d.card", i)
			if _,
				err := b.shell("./zipstamp practice new --claimed 80MB --write-rate 20MB/s --read-rate 90MB/s " + name +
				" >/dev/null"); err != nil {
				return nil, err
			}
			args = append(args, name)
		}
		return args, nil
	}},
	{"receipts, listed", []int64{10, 1000, 10_000, 100_000}, func(b *bench, n int64) ([]string, error) {
		const one = `./zipstamp practice new --claimed 8MB a.card >/dev/null
			XDG_STATE_HOME=$PWD/one ./zipstamp blank --yes a.card >/dev/null 2>&1; mkdir -p state/zipstamp/receipts`
		if _, err := b.shell(one); err != nil {
			return nil, err
		}
		found, err := filepath.Glob(b.path("one/zipstamp/receipts/*.json"))
		if err != nil || len(found) != 1 {
			return nil, fmt.Errorf("no receipt was made: %w", err)
		}
		text, err := os.ReadFile(found[0])
		if err != nil {
			return nil, err
		}
		var compact bytes.Buffer
		if err := json.Compact(&compact, text); err != nil {
			return nil, err
		}
		for i := range int(n) {
			name := fmt.Sprintf("state/zipstamp/receipts/20260101-%06d-blank-a.card.json", i)
			if err := os.WriteFile(b.path(name), compact.Bytes(), 0o600); err != nil {
				return nil, err
			}
		}
		return []string{"receipts", "list"}, nil
	}},
	{"partitions of a GPT, peeked at", []int64{1, 8, 32, 128}, func(b *bench, n int64) ([]string, error) {
		script := fmt.Sprintf("truncate -s 300M parts.img; (echo label: gpt; for i in $(seq %d); do echo size=2MiB; "+
			"done) | "+
			"sfdisk -q parts.img", n)
		_, err := b.shell(script)
		return []string{"peek", "parts.img"}, err
	}},
	{"claimed bytes of a card, gauged by spots", []int64{64e9, 256e9, 1e12, 8e12}, func(b *bench, n int64) ([]string,
		error,
	) {
		_, err := b.shell(fmt.Sprintf("./zipstamp practice new --claimed %d big.card >/dev/null", n))
		return []string{"gauge", "spots", "big.card"}, err
	}},
}
