//go:build linux

package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// What is on a card before it is stamped again.
const (
	writeRate, readRate = 20, 90 // MB/s
	oneIn               = 10     // blocks that differ
)

// runAgain measures stamps of cards that hold a part of the image already, as ratios to one that writes all.
func runAgain(work string, size int64, rounds int) error {
	b := &bench{work: work, size: size}
	if err := b.ready(); err != nil {
		return err
	}
	image, err := os.ReadFile(b.path("disk.img"))
	if err != nil {
		return err
	}
	noise := make([]byte, size)
	random := rand.NewChaCha8([32]byte{1})
	_, _ = random.Read(noise) // never fails
	tenth := append([]byte(nil), image...)
	for off := int64(oneIn/2) * block; off < size; off += oneIn * block {
		copy(tenth[off:min(off+block, size)], noise[off:])
	}
	changed := int64(0)
	for off := int64(oneIn/2) * block; off < size; off += oneIn * block {
		changed += min(block, size-off)
	}
	fmt.Printf("practice cards that write %d MB/s and read %d MB/s, raw image of %d MiB, median of %d\n\n", writeRate,
		readRate,
		size>>20, rounds)
	var all time.Duration
	for _, c := range []struct {
		what  string
		holds []byte
		known bool // by a stamp before
		args  []string
		cut   bool
	}{
		{what: "something else, --write-all", holds: noise, args: []string{"--write-all"}},
		{what: "something else", holds: noise},
		{what: "the same, with a receipt", known: true},
		{what: "the same, without one", holds: image},
		{what: "all but a tenth of the blocks", holds: tenth},
		{what: "something else, interrupted at half, and again", holds: noise, cut: true},
	} {
		took, written, err := b.medianAgain(rounds, c.holds, c.known, c.cut, c.args)
		if err != nil {
			return err
		}
		if all == 0 {
			all = took
		}
		fmt.Printf("  %-48s %6.1f s  %.2f   written %5.1f MB", c.what, took.Seconds(), took.Seconds()/all.Seconds(),
			float64(written)/1e6)
		if c.what == "all but a tenth of the blocks" {
			fmt.Printf(", %.2f of what differs, and the first block", float64(written-block)/float64(changed))
		}
		fmt.Println()
	}
	return os.RemoveAll(b.path("again"))
}

func (b *bench) medianAgain(rounds int, holds []byte, known, cut bool, args []string) (time.Duration, int64, error) {
	var times []time.Duration
	var written int64
	for range rounds {
		took, n, err := b.stampAgain(holds, known, cut, args)
		if err != nil {
			return 0, 0, err
		}
		times, written = append(times, took), n
	}
	return median(times), written, nil
}

// stampAgain stamps a card once; a known one was stamped before, without its time.
func (b *bench) stampAgain(holds []byte, known, cut bool, args []string) (time.Duration, int64, error) {
	dir := b.path("again")
	if err := os.RemoveAll(dir); err != nil {
		return 0, 0, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, 0, err
	}
	name, image := filepath.Join(dir, "a.card"), filepath.Join(dir, "disk.img")
	if err := os.Link(b.path("disk.img"), image); err != nil { // no sums lie beside it there
		return 0, 0, err
	}
	if err := b.practice(name, b.size+block, 0, 0); err != nil {
		return 0, 0, err
	}
	run := func(receipt string, args ...string) (time.Duration, error) {
		cmd := exec.Command(b.tool, append([]string{
			"stamp", "--yes", "--unchecked", "--no-spots", "--receipt", filepath.Join(dir, receipt), image,
			name,
		}, args...)...)
		cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir)
		start := time.Now()
		if cut && receipt == "cut.json" {
			time.AfterFunc(time.Duration(float64(b.size)/2/(writeRate*1e6)*float64(time.Second)), func() {
				_ = cmd.Process.Kill()
			})
			_, _ = cmd.CombinedOutput()
			return time.Since(start), nil
		}
		out, err := cmd.CombinedOutput()
		if err != nil {
			return 0, fmt.Errorf("%w: %s", err, out)
		}
		return time.Since(start), nil
	}
	if known {
		cmd := exec.Command(b.tool, "stamp", "--yes", "--unchecked", "--no-spots", image, name)
		cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir)
		if out, err := cmd.CombinedOutput(); err != nil {
			return 0, 0, fmt.Errorf("%w: %s", err, out)
		}
	} else if err := os.WriteFile(name+
		".data", append(holds[:b.size:b.size], make([]byte, block)...), 0o644); err != nil {
		return 0, 0, err
	}
	// from now on it has its speed
	if err := os.Remove(name); err != nil {
		return 0, 0, err
	}
	if err := os.Rename(name+".data", name+".kept"); err != nil {
		return 0, 0, err
	}
	if err := b.practice(name, b.size+block, writeRate, readRate); err != nil {
		return 0, 0, err
	}
	if err := os.Rename(name+".kept", name+".data"); err != nil {
		return 0, 0, err
	}
	var before time.Duration
	if cut {
		var err error
		if before, err = run("cut.json", args...); err != nil {
			return 0, 0, err
		}
	}
	took, err := run("r.json", args...)
	if err != nil {
		return 0, 0, err
	}
	text, err := os.ReadFile(filepath.Join(dir, "r.json"))
	if err != nil {
		return 0, 0, err
	}
	var r struct{ Bytes struct{ Written int64 } }
	err = json.Unmarshal(text, &r)
	return before + took, r.Bytes.Written, err
}

// practice makes a practice card of a size in bytes and rates in MB/s; 0 is no limit.
func (b *bench) practice(name string, size int64, write, read int) error {
	args := []string{"practice", "new", name, "--claimed", fmt.Sprint(size)}
	if write > 0 {
		args = append(args, "--write-rate", fmt.Sprintf("%dMB/s", write), "--read-rate", fmt.Sprintf("%dMB/s", read))
	}
	if out, err := exec.Command(b.tool, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}
