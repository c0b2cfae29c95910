//go:build linux

package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/gaugetest"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/gauge/whole"
	"zipstamp/lab"
)

// runGauge measures the tests of cards against the machine's own limits.
func runGauge(work string, size int64, rounds int) error {
	b := &bench{work: work, size: size}
	if err := os.MkdirAll(b.work, 0o755); err != nil {
		return err
	}
	if err := b.build(); err != nil {
		return err
	}
	stampSpeed()
	if err := b.spots(); err != nil {
		return err
	}
	if err := b.wholeCard(); err != nil {
		return err
	}
	if err := b.whole(rounds); err != nil {
		return err
	}
	return b.space(rounds)
}

// stampSpeed tells how fast sector stamps are made and compared, on one core.
func stampSpeed() {
	p := make([]byte, gauge.BlockSize)
	run := mark.NewRun(mark.Nonce{1, 2, 3})
	rate := func(do func()) float64 {
		best := 0.0
		for range 5 {
			const times = 200
			start := time.Now()
			for range times {
				do()
			}
			best = max(best, float64(times*len(p))/time.Since(start).Seconds()/1e9)
		}
		return best
	}
	fmt.Printf("sector stamps, one core, best of 5: made at %.1f GB/s, compared at %.1f GB/s\n\n",
		rate(func() { run.Fill(p, 12345) }), rate(func() { run.Right(p, 12345) }))
}

// spots counts what a test of spots writes on cards of some sizes that take a millisecond for each access, and how long
// it takes beyond the accesses.
func (b *bench) spots() error {
	for _, claimed := range []practice.Size{32e9, 64e9, 512e9, 2e12} {
		d, err := (gaugetest.Reader{Folder: b.work}).Insert(practice.Spec{
			Version: practice.Version, Claimed: claimed, Latency: practice.Duration(time.Millisecond), ReadRate: 90e6,
			WriteRate: 40e6,
		})
		if err != nil {
			return err
		}
		timed := &timedDevice{Device: d}
		start := time.Now()
		rep, _, err := spots.Test{Device: timed, Nonce: mark.Nonce{1}, Seed: 1}.Run(context.Background())
		took := time.Since(start)
		d.Close()
		if err != nil {
			return err
		}
		fmt.Printf("spots, %8v (1 ms an access, 90 MB/s, 40 MB/s): %s, %.1f MB written, %.0f MB read, in %.1f s, of "+
			"which %.2f s are not the card's\n",
			claimed, rep.Verdict, float64(rep.Written)/1e6, float64(rep.Read)/1e6, took.Seconds(),
			(took - timed.took).Seconds())
	}
	fmt.Println()
	return nil
}

// timedDevice sums up the time of all accesses.
type timedDevice struct {
	card.Device
	took time.Duration
}

func (d *timedDevice) time(start time.Time) { d.took += time.Since(start) }

func (d *timedDevice) ReadAt(p []byte, off int64) (int, error) {
	defer d.time(time.Now())
	return d.Device.ReadAt(p, off)
}

func (d *timedDevice) WriteAt(p []byte, off int64) (int, error) {
	defer d.time(time.Now())
	return d.Device.WriteAt(p, off)
}

func (d *timedDevice) Flush() error {
	defer d.time(time.Now())
	return d.Device.Flush()
}

// wholeCard tests every block of cards whose pace is known, and compares the time with the least that writing and
// reading can take.
func (b *bench) wholeCard() error {
	for _, size := range []practice.Size{256e6, 1e9} {
		const write, read, latency = 40e6, 90e6, 500 * time.Microsecond
		d, err := (gaugetest.Reader{Folder: b.work}).Insert(practice.Spec{
			Version: practice.Version, Claimed: size, ReadRate: read, WriteRate: write,
			Latency: practice.Duration(latency),
		})
		if err != nil {
			return err
		}
		start := time.Now()
		rep, err := whole.Test{Device: d, Nonce: mark.Nonce{1}}.Run(context.Background())
		took := time.Since(start)
		d.Close()
		if err != nil {
			return err
		}
		blocks := float64(size) / gauge.BlockSize
		least := float64(size)/write + float64(size)/read + 2*blocks*latency.Seconds()
		fmt.Printf("whole, card of %v, 40 MB/s and 90 MB/s, 0.5 ms an access: %s in %.1f s, the card's own time %.1f "+
			"s: %.3f\n", size, rep.Verdict, took.Seconds(), least, took.Seconds()/least)
	}
	fmt.Println()
	return nil
}

// whole compares the test of every block with dd, which writes and reads the same loop device directly.
func (b *bench) whole(rounds int) error {
	out, err := b.shell(fmt.Sprintf("truncate -s %d %s && losetup -f --show --direct-io=on %s", b.size,
		b.path("whole.img"), b.path("whole.img")))
	if err != nil {
		return err
	}
	loop := strings.TrimSpace(out)
	defer func() { _, _ = b.shell("losetup -d " + loop + "; rm -f " + b.path("whole.img")) }()
	// its blocks have their places from now on
	fill := fmt.Sprintf("dd if=/dev/zero of=%s bs=4M oflag=direct conv=fsync 2>&1 || true", loop)
	if _, err := b.shell(fill); err != nil {
		return err
	}
	state := "XDG_STATE_HOME=" + b.path("state") + " "
	return b.against("whole", rounds,
		fmt.Sprintf("dd if=/dev/zero of=%s bs=4M count=%d oflag=direct conv=fsync && dd if=%s of=/dev/null bs=4M "+
			"count=%d iflag=direct", loop, b.size>>22, loop, b.size>>22),
		state+b.tool+" gauge whole --yes --afresh "+loop)
}

// space compares the test of free space with writing and reading a plain file.
func (b *bench) space(rounds int) error {
	mnt := b.path("mnt")
	out, err := b.shell(fmt.Sprintf("truncate -s %d %s && mkfs.ext4 -q -F %s && losetup -f --show --direct-io=on %s",
		b.size, b.path("space.img"), b.path("space.img"), b.path("space.img")))
	if err != nil {
		return err
	}
	loop := strings.TrimSpace(out)
	if _, err := b.shell("mkdir -p " + mnt + " && mount " + loop + " " + mnt); err != nil {
		return err
	}
	defer func() {
		_, _ = b.shell("umount " + mnt + "; losetup -d " + loop + "; rm -f " + b.path("space.img"))
	}()
	mb := b.size * 3 / 4 >> 22 * 4
	file := mnt + "/plain"
	return b.against("space", rounds,
		fmt.Sprintf("dd if=/dev/zero of=%s bs=4M count=%d oflag=direct conv=fsync && dd if=%s of=/dev/null bs=4M "+
			"iflag=direct && rm %s", file, mb/4, file, file),
		fmt.Sprintf("XDG_STATE_HOME=%s %s gauge space %s --fixed-disk --first %dMiB", b.path("state"), b.tool, mnt, mb))
}

// against measures two commands in turn.
func (b *bench) against(name string, rounds int, reference, ours string) error {
	var dd, tool []time.Duration
	for range rounds {
		for command, list := range map[string]*[]time.Duration{reference: &dd, ours: &tool} {
			start := time.Now()
			if out, err := b.shell("sync; " + command + " 2>&1"); err != nil {
				return fmt.Errorf("%w: %s", err, out)
			}
			*list = append(*list, time.Since(start))
		}
	}
	fmt.Printf("%s: dd, direct, writing and reading %.2f s, ours %.2f s: %.3f\n", name, median(dd).Seconds(),
		median(tool).Seconds(), median(tool).Seconds()/median(dd).Seconds())
	return nil
}

// runTrials tries the verdicts on so many cards made up by chance.
func runTrials(cards int) error {
	folder, err := os.MkdirTemp("/dev/shm", "zipstamp-trials-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	reader := gaugetest.Reader{Folder: folder}
	seed := uint64(time.Now().UnixNano())
	wrong := 0
	for i := range cards {
		random := rand.New(rand.NewPCG(seed, uint64(i)))
		s := gaugetest.Draw(random, 64<<20)
		for name, try := range map[string]func(gaugetest.Reader, gaugetest.Suspect, *rand.Rand) error{
			"whole": gaugetest.Reader.Whole, "spots": gaugetest.Reader.Spots,
		} {
			if err := try(reader, s, random); err != nil {
				wrong++
				fmt.Printf("%s, card %d of seed %d: %v: %v\n", name, i, seed, s, err)
			}
		}
	}
	fmt.Printf("%d cards, whole and spots of each: %d wrong (seed %d)\n", cards, wrong, seed)
	return nil
}

// runEmulatedGauge compares the test of every block of a stick of the lab, at a limited speed, with dd, which writes
// and reads it directly in the same machine.
func runEmulatedGauge(work, folder string) error {
	b := &bench{work: work, size: 2 << 30}
	if err := b.ready(); err != nil {
		return err
	}
	kit, err := lab.NewKit(folder)
	if err != nil {
		return err
	}
	stick := &lab.Medium{File: b.path("stick.bin"), Writes: 24e6, Reads: 32e6}
	if err := os.WriteFile(stick.File, nil, 0o644); err != nil {
		return err
	}
	if err := os.Truncate(stick.File, b.size); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	g, err := lab.Machine{
		Kit: kit, USB: []*lab.Medium{stick}, Put: map[string]string{"/bin/zipstamp": b.tool}, Cores: 2, Memory: 800,
	}.Start(ctx)
	if err != nil {
		return err
	}
	defer g.Stop()
	took := map[string]float64{}
	for name, script := range map[string]string{
		"dd": "dd if=/dev/zero of=/dev/sda bs=4M count=512 oflag=direct conv=fsync 2>/dev/null; dd if=/dev/sda " +
			"of=/dev/null bs=4M iflag=direct 2>/dev/null",
		"whole": "zipstamp gauge whole --yes --afresh /dev/sda >/dev/null 2>&1",
	} {
		_, said, err := g.Run(ctx, "cat /proc/uptime; "+script+"; cat /proc/uptime")
		if err != nil {
			return err
		}
		if took[name], err = between(said); err != nil {
			return err
		}
	}
	fmt.Printf("whole, emulated USB stick of 2 GiB limited to 24 MB/s and 32 MB/s: dd, direct, writing and reading "+
		"%.1f s, ours %.1f s: %.3f\n", took["dd"], took["whole"], took["whole"]/took["dd"])
	return nil
}
