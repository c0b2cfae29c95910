//go:build linux

package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// How fast the cards are, and how much differs.
const (
	writeRate, readRate = 20, 90 // MB/s
	oneIn               = 10     // blocks that differ
)

// before is a card before it is stamped, and how it is.
type before struct {
	what    string
	image   []byte
	holds   []byte   // nil: what a stamp left, which isn't timed
	cut     bool     // a stamp is killed at half of its writing, and counts too
	args    []string // of the stamp
	changed int64    // bytes that differ; 0: not told
}

// measured is what a stamp took and did.
type measured struct {
	took    time.Duration
	written int64
	errors  [3]float64 // of the time said beforehand, after these parts of the time
}

// saidAt are the parts of the time at which the time said beforehand is compared.
var saidAt = [3]float64{0.1, 0.25, 0.5}

// runAgain measures stamps of cards that hold a part of the image already, as ratios to one that writes all.
func runAgain(work string, size int64, rounds int, device bool) error {
	b, image, noise, err := againReady(work, size, device)
	if err != nil {
		return err
	}
	tenth := bytes.Clone(image)
	changed := int64(0)
	for off := int64(oneIn/2) * block; off < size; off += oneIn * block {
		copy(tenth[off:min(off+block, size)], noise[off:])
		changed += min(block, size-off)
	}
	return b.compareAgain(rounds, []before{
		{what: "something else, --write-all", image: image, holds: noise, args: []string{"--write-all"}},
		{what: "something else", image: image, holds: noise},
		{what: "the same, with a receipt", image: image},
		{what: "the same, without one", image: image, holds: image},
		{what: "all but a tenth of the blocks", image: image, holds: tenth, changed: changed},
		{what: "something else, killed at half, and again", image: image, holds: noise, cut: true},
	})
}

// againReady makes what such measurements need.
func againReady(work string, size int64, device bool) (b *bench, image, noise []byte, err error) {
	b = &bench{work: work, size: size, device: device}
	if err := b.ready(); err != nil {
		return nil, nil, nil, err
	}
	if image, err = os.ReadFile(b.path("disk.img")); err != nil {
		return nil, nil, nil, err
	}
	noise = make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(noise) // never fails
	return b, image, noise, nil
}

func (b *bench) compareAgain(rounds int, all []before) error {
	kind := "practice cards"
	if b.device {
		kind = "loop devices"
	}
	fmt.Printf("%s that write %d MB/s and read %d MB/s, raw image of %d MiB, median of %d; error of the time said "+
		"after a tenth, a quarter and half of it\n\n", kind, writeRate, readRate, b.size>>20, rounds)
	var first time.Duration
	for _, c := range all {
		var times []time.Duration
		var m measured
		for range rounds {
			var err error
			if m, err = b.stampAgain(c); err != nil {
				return err
			}
			times = append(times, m.took)
		}
		took := median(times)
		if first == 0 {
			first = took
		}
		fmt.Printf("  %-44s %6.1f s  %.2f  written %5.1f MB  error", c.what, took.Seconds(),
			took.Seconds()/first.Seconds(),
			float64(m.written)/1e6)
		for _, e := range m.errors {
			if math.IsNaN(e) {
				fmt.Print(" (nothing said)")
			} else {
				fmt.Printf(" %+.0f %%", 100*e)
			}
		}
		if c.changed > 0 {
			fmt.Printf("  %.2f of what differs, and the first block", float64(m.written-block)/float64(c.changed))
		}
		fmt.Println()
	}
	return os.RemoveAll(b.path("again"))
}

// stampAgain stamps a card once.
func (b *bench) stampAgain(c before) (m measured, err error) {
	dir := b.path("again")
	if err := os.RemoveAll(dir); err != nil {
		return m, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return m, err
	}
	name, image := filepath.Join(dir, "a.card"), filepath.Join(dir, "disk.img")
	holds := name + ".data"
	if err := os.WriteFile(image, c.image, 0o644); err != nil {
		return m, err
	}
	command := exec.Command
	if !b.device {
		practice := []string{
			"practice", "new", name, "--claimed", fmt.Sprint(b.size + 64<<20), "--write-rate",
			fmt.Sprintf("%dMB/s", writeRate), "--read-rate", fmt.Sprintf("%dMB/s", readRate),
		}
		if out, err := exec.Command(b.tool, practice...).CombinedOutput(); err != nil {
			return m, fmt.Errorf("%w: %s", err, out)
		}
	}
	if c.holds != nil || b.device {
		if err := os.WriteFile(holds, append(c.holds[:len(c.holds):len(c.holds)],
			make([]byte, b.size+64<<20-int64(len(c.holds)))...), 0o644); err != nil {
			return m, err
		}
	}
	if b.device {
		p, err := b.newPaced(holds)
		if err != nil {
			return m, err
		}
		defer p.Close()
		name, command = p.name, p.command
	}
	stamp := func(args ...string) *exec.Cmd {
		cmd := command(b.tool, append([]string{"stamp", "--yes", "--unchecked", "--no-spots", image, name}, args...)...)
		cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir)
		return cmd
	}
	if c.holds == nil {
		if out, err := stamp().CombinedOutput(); err != nil {
			return m, fmt.Errorf("%w: %s", err, out)
		}
	}
	if c.cut {
		start, cmd := time.Now(), stamp()
		time.AfterFunc(time.Duration(float64(b.size)/2/(writeRate*1e6)*float64(time.Second)), func() {
			_ = cmd.Process.Kill()
		})
		_ = cmd.Run() // it was killed
		m.took = time.Since(start)
	}
	receipt := filepath.Join(dir, "r.json")
	cmd := stamp(append(c.args, "--receipt", receipt, "--progress", "json")...)
	var out bytes.Buffer
	cmd.Stdout = &out
	said, err := cmd.StderrPipe()
	if err != nil {
		return m, err
	}
	start := time.Now()
	if err := cmd.Start(); err != nil {
		return m, err
	}
	var ends [][2]time.Time // when it was said, and the time said
	for lines := bufio.NewScanner(said); lines.Scan(); {
		var line struct{ Ends time.Time }
		if json.Unmarshal(lines.Bytes(), &line) == nil && !line.Ends.IsZero() {
			ends = append(ends, [2]time.Time{time.Now(), line.Ends})
		}
	}
	if err := cmd.Wait(); err != nil {
		return m, fmt.Errorf("%w: %s", err, out.String())
	}
	took := time.Since(start)
	m.took += took
	for i, part := range saidAt {
		at := start.Add(time.Duration(part * float64(took)))
		m.errors[i] = math.NaN()
		for _, e := range ends {
			if e[0].Before(at) {
				m.errors[i] = e[1].Sub(start).Seconds()/took.Seconds() - 1
			}
		}
	}
	text, err := os.ReadFile(receipt)
	if err != nil {
		return m, err
	}
	var r struct{ Bytes struct{ Written int64 } }
	err = json.Unmarshal(text, &r)
	m.written = r.Bytes.Written
	return m, err
}
