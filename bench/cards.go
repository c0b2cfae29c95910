//go:build linux

package main

import (
	"context"
	"encoding/json"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zipstamp/lab"
)

// runCards measures how long cards takes, and several cards at once.
func runCards(work string, size int64, rounds int) error {
	b := &bench{work: work, size: size}
	if err := b.ready(); err != nil {
		return err
	}
	if err := b.listing(rounds); err != nil {
		return err
	}
	return b.together()
}

// ready builds the tool, and makes the image if it isn't there.
func (b *bench) ready() error {
	if err := os.MkdirAll(b.work, 0o755); err != nil {
		return err
	}
	if err := b.build(); err != nil {
		return err
	}
	return b.makeImage()
}

func (b *bench) listing(rounds int) error {
	var took []time.Duration
	for range rounds * 5 {
		start := time.Now()
		if out, err := exec.Command(b.tool, "cards", "--all").CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		took = append(took, time.Since(start))
	}
	slices.Sort(took)
	fmt.Printf("cards --all: %v (median of %d; the program's start included)\n\n",
		took[len(took)/2].Round(100*time.Microsecond), len(took))
	return nil
}

// receiptOf is what is read of a receipt.
type receiptOf struct {
	Started, Ended time.Time
	Phases         []struct {
		Phase   string
		Seconds float64
		Rate    float64
	}
}

func (r receiptOf) rate(phase string) float64 {
	for _, p := range r.Phases {
		if p.Phase == phase {
			return p.Rate
		}
	}
	return 0
}

// together stamps practice cards of a certain speed, 1, 2 and 4 at once.
func (b *bench) together() error {
	fmt.Println("cards at once (practice cards that write at the rates given and read at twice these, raw image; " +
		"share = rate reached / that of the slowest)")
	for _, rates := range [][]int{{40}, {40, 40}, {40, 40, 40, 40}, {40, 40, 40, 20}} {
		dir := b.path("cards")
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Join(dir, "receipts"), 0o755); err != nil {
			return err
		}
		args := []string{
			"stamp", "--yes", "--unchecked", "--receipt", filepath.Join(dir, "receipts"), b.path("disk.img"),
		}
		for i, rate := range rates {
			name := filepath.Join(dir, fmt.Sprintf("%d.card", i))
			make := exec.Command(b.tool, "practice", "new", name, "--claimed", fmt.Sprint(b.size+1<<20), "--write-rate",
				fmt.Sprintf("%dMB/s", rate), "--read-rate", fmt.Sprintf("%dMB/s", 2*rate))
			if out, err := make.CombinedOutput(); err != nil {
				return fmt.Errorf("%w: %s", err, out)
			}
			args = append(args, name)
		}
		start := time.Now()
		cmd := exec.Command(b.tool, args...)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		took := time.Since(start).Seconds()
		slowest := float64(slices.Min(rates)) * 1e6
		files, err := filepath.Glob(filepath.Join(dir, "receipts", "*.json"))
		if err != nil {
			return err
		}
		var shares []string
		for _, file := range files {
			var r receiptOf
			text, err := os.ReadFile(file)
			if err == nil {
				err = json.Unmarshal(text, &r)
			}
			if err != nil {
				return err
			}
			shares = append(shares, fmt.Sprintf("%.2f", r.rate("write")/slowest))
		}
		fmt.Printf("  %-14v MB/s: %5.1f s in all, write share of each %s\n", rates, took, strings.Join(shares, " "))
	}
	return os.RemoveAll(b.path("cards"))
}

// emulatedSize of the image, bytes: large enough for the start and the end of a stamp to matter little, as with real
// images.
const emulatedSize = 512 << 20

// runEmulated measures devices of the lab at a limited speed, against dd with direct access in the same machine. folder
// is that of its kit.
func runEmulated(work, folder string, rounds int) error {
	b := &bench{work: work, size: emulatedSize}
	if err := b.ready(); err != nil {
		return err
	}
	kit, err := lab.NewKit(folder)
	if err != nil {
		return err
	}
	share := b.path("share")
	if err := os.MkdirAll(share, 0o755); err != nil {
		return err
	}
	const size = emulatedSize
	head := make([]byte, size)
	f, err := os.Open(b.path("disk.img"))
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.ReadAt(head, 0); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(share, "disk.img"), head, 0o644); err != nil {
		return err
	}
	fmt.Printf("\nemulated devices (raw image of %d MiB, median of %d; share = rate of writing / that of dd with "+
		"direct access)\n", size>>20, rounds)
	// An emulated SD card alone takes some 15 MB/s here, where the processor has nothing else to do.
	slot, stick := &lab.Medium{File: b.path("slot.bin"), Writes: 8e6}, &lab.Medium{
		File: b.path("stick.bin"), Writes: 20e6,
	}
	for _, m := range []*lab.Medium{slot, stick} {
		if err := os.WriteFile(m.File, nil, 0o644); err != nil {
			return err
		}
		if err := os.Truncate(m.File, 2*size); err != nil {
			return err
		}
	}
	return b.emulatedAt(kit, slot, stick, share, rounds)
}

func (b *bench) emulatedAt(kit *lab.Kit, slot, stick *lab.Medium, share string, rounds int) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	g, err := lab.Machine{
		Kit: kit, SD: slot, USB: []*lab.Medium{stick}, Share: share, Put: map[string]string{"/bin/zipstamp": b.tool},
		Cores: 2, Memory: 1600,
	}.Start(ctx)
	if err != nil {
		return err
	}
	defer g.Stop()
	if _, _, err := g.Run(ctx, "cp /share/disk.img /tmp"); err != nil {
		return err
	}
	for device, rate := range map[string]int64{"mmcblk0": slot.Writes, "sda": stick.Writes} {
		var plain, ours []float64
		for range rounds {
			_, said, err := g.Run(ctx, "cat /proc/uptime; dd if=/tmp/disk.img of=/dev/"+device+
				" bs=4M oflag=direct conv=fsync 2>/dev/null; cat /proc/uptime")
			if err != nil {
				return err
			}
			seconds, err := between(said)
			if err != nil {
				return err
			}
			plain = append(plain, emulatedSize/seconds)
			status, said, err := g.Run(ctx,
				"cd /tmp; zipstamp stamp --yes --unchecked --json --receipt /tmp/r.json disk.img /dev/"+device+
					" 2>/dev/null")
			if err != nil {
				return err
			}
			var r receiptOf
			if err := json.Unmarshal([]byte(said), &r); err != nil || status != 0 {
				log.Printf("status %d: %s", status, said)
				return err
			}
			ours = append(ours, r.rate("write"))
		}
		slices.Sort(plain)
		slices.Sort(ours)
		p, o := plain[len(plain)/2], ours[len(ours)/2]
		fmt.Printf("  %-8s limited to %2.0f MB/s: dd %4.1f MB/s, stamp %4.1f MB/s, share %.3f\n", device,
			float64(rate)/1e6, p/1e6, o/1e6, o/p)
	}
	_, said, err := g.Run(
		ctx,
		"zipstamp cards >/dev/null; cat /proc/uptime; for i in 1 2 3 4 5; do zipstamp cards >/dev/null; done; cat "+
			"/proc/uptime",
	)
	if err != nil {
		return err
	}
	seconds, err := between(said)
	fmt.Printf("  cards in the guest, whose processor is emulated: %.2f s\n", seconds/5)
	return err
}

// between is the time between two lines of /proc/uptime.
func between(said string) (seconds float64, err error) {
	var from, to, idle float64
	if _, err := fmt.Sscan(said, &from, &idle, &to); err != nil {
		return 0, fmt.Errorf("%w: %s", err, said)
	}
	return to - from, nil
}
