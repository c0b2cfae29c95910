//go:build linux

// Command bench measures a stamp against the machine's own limits and against the commands that a person would
// type instead, all in one run, since only ratios of one run mean anything on a shared machine.
//
//	go run ./bench -work /var/tmp/zsbench
//	go run ./bench -work /var/tmp/zsbench -what unpack -size 268435456
//	go run ./bench -work /var/tmp/zsbench -what unpack -xz /opt/newer/xz
//	go run ./bench -work /var/tmp/zsbench -what cards -size 536870912
//	go run ./bench -work /var/tmp/zsbench -what files
//	go run ./bench -work /var/tmp/zsbench -what again -rounds 1
//	go run ./bench -work /var/tmp/zsbench -what again -rounds 1 -device
//	go run ./bench -work /var/tmp/zsbench -what fetch
//	go run ./bench -work /var/tmp/zsbench -what scale -rounds 1
//	go run ./bench -work /var/tmp/zsbench -what emulated -rounds 1
//	go run ./bench -work /var/tmp/zsbench -what gauge -size 4294967296
//	go run ./bench -work /var/tmp/zsbench -what trials -rounds 3000
//
// It needs root (for a loop device) and xz, gzip, sha256sum, cp, cmp, losetup and GNU time. It leaves what it made in
// the work folder, so that a second run starts sooner.
package main

import (
	"flag"
	"fmt"
	"io"
	"io/fs"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

const block = 4 << 20

func main() {
	log.SetFlags(0)
	work := flag.String("work", "/var/tmp/zsbench", "folder for images; needs 5 GiB")
	size := flag.Int64("size", 1<<30, "size of the image in bytes")
	rounds := flag.Int("rounds", 3, "how often each is measured; the median counts")
	what := flag.String("what", "stamp",
		"what to measure: stamp, unpack (decoders, check and peek), peek alone, cards (listing, several at once), "+
			"files (cards of loose files), again (cards that hold a part of the image), fetch (downloads), "+
			"scale "+
			"(how time grows with the work), gauge (tests of "+
			"cards), trials (their verdicts, on so "+
			"many cards as "+
			"-rounds says), emulated, or "+
			"emulated-gauge (devices of the lab)")
	kit := flag.String("lab", "/var/tmp/zipstamp-lab", "with those: the folder of the lab's kit")
	one := flag.String("unpack", "", "unpack this file to nothing, and end; the measurement of decoders runs itself so")
	xz := flag.String("xz", "xz", "with unpack: another xz command to compare with, such as a newer release")
	device := flag.Bool("device", false, "with again: loop devices that the kernel slows, not practice cards")
	flag.Parse()
	var err error
	switch {
	case *one != "":
		err = unpackOne(*one)
	case *what == "cards":
		err = runCards(*work, *size, *rounds)
	case *what == "again":
		err = runAgain(*work, *size, *rounds, *device)
	case *what == "files":
		err = runFiles(*work, *rounds)
	case *what == "scale":
		err = runScale(*work, *rounds)
	case *what == "fetch":
		err = runFetch(*work, *size, *rounds)
	case *what == "gauge":
		err = runGauge(*work, *size, *rounds)
	case *what == "emulated-gauge":
		err = runEmulatedGauge(*work, *kit)
	case *what == "trials":
		err = runTrials(*rounds)
	case *what == "emulated":
		err = runEmulated(*work, *kit, *rounds)
	case *what == "unpack" || *what == "peek":
		err = runUnpack(*work, *size, *rounds, *xz, *what == "peek")
	default:
		err = run(*work, *size, *rounds)
	}
	if err != nil {
		log.Fatal(err)
	}
}

func run(work string, size int64, rounds int) error {
	b := &bench{work: work, size: size}
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	if err := b.prepare(); err != nil {
		return err
	}
	defer func() {
		if _, err := b.shell("losetup -d " + b.loop); err != nil {
			log.Print(err)
		}
	}()
	fmt.Printf("%d cores, %s, image of %d MiB, median of %d rounds\n\n", runtime.NumCPU(), runtime.Version(), size>>20,
		rounds)
	for _, k := range b.kinds() {
		if err := b.measure(k, rounds); err != nil {
			return err
		}
	}
	return b.start()
}

type bench struct {
	work, loop, tool string
	size             int64
	device           bool // cards are loop devices that the kernel slows, and not practice cards
}

func (b *bench) path(name string) string { return filepath.Join(b.work, name) }

// prepare builds the tool, makes the images that aren't there, and attaches the loop device.
func (b *bench) prepare() error {
	if err := b.build(); err != nil {
		return err
	}
	if err := b.makeImage(); err != nil {
		return err
	}
	for ending, pack := range map[string]string{"xz": "xz -kT2 disk.img", "gz": "gzip -k disk.img"} {
		packed := b.path("disk.img." + ending)
		if _, err := os.Stat(packed); err == nil {
			continue
		}
		log.Printf("making %s ...", packed)
		if _, err := b.shell(pack); err != nil {
			return err
		}
	}
	if _, err := b.shell("sha256sum disk.img.xz disk.img.gz > SHA256SUMS; sha256sum disk.img > disk.sums"); err != nil {
		return err
	}
	if _, err := b.shell(fmt.Sprintf("rm -f card.bin && fallocate -l %d card.bin", b.size+64<<20)); err != nil {
		return err
	}
	out, err := b.shell("losetup --direct-io=on --show -f card.bin")
	b.loop = strings.TrimSpace(out)
	return err
}

func (b *bench) build() error {
	b.tool = b.path("zipstamp")
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", b.tool, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("build: %w\n%s", err, out)
	}
	return nil
}

// makeImage fills a disk image with what the Go tree holds, and leaves 30 % of it zero, as images of systems have.
func (b *bench) makeImage() error {
	path := b.path("disk.img")
	if info, err := os.Stat(path); err == nil && info.Size() == b.size {
		return nil
	}
	log.Printf("making %s ...", path)
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	mbr := make([]byte, 1<<20)
	mbr[510], mbr[511] = 0x55, 0xAA
	if _, err := f.Write(mbr); err != nil {
		return err
	}
	full := b.size * 7 / 10
	goroot, err := b.shell("go env GOROOT")
	if err != nil {
		return err
	}
	for _, root := range []string{strings.TrimSpace(goroot), "/usr/lib", "/usr/bin", "/usr/share"} {
		if err := appendTree(f, root, full); err != nil {
			return err
		}
	}
	return f.Truncate(b.size)
}

func appendTree(f *os.File, root string, full int64) error {
	return filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return nil
		}
		at, err := f.Seek(0, io.SeekCurrent)
		if err != nil || at >= full {
			return fs.SkipAll
		}
		in, err := os.Open(path)
		if err != nil {
			return nil
		}
		defer in.Close()
		if _, err := io.Copy(f, io.LimitReader(in, full-at)); err != nil {
			return err
		}
		at, _ = f.Seek(0, io.SeekCurrent)
		_, err = f.Seek((at+4095)&^4095, io.SeekStart)
		return err
	})
}

func (b *bench) shell(command string) (string, error) {
	cmd := exec.Command("sh", "-ec", command)
	cmd.Dir = b.work
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		err = fmt.Errorf("%s: %w", command, err)
	}
	return string(out), err
}

// kind is a way of packing, with the commands that a person would type.
type kind struct {
	name, file   string
	unpackNull   string
	unpackToFile string
}

func (b *bench) kinds() []kind {
	return []kind{
		{"raw", "disk.img", "cat disk.img > /dev/null", ""},
		{"gzip", "disk.img.gz", "gzip -dc disk.img.gz > /dev/null", "gzip -dc disk.img.gz > unpacked.img"},
		{"xz", "disk.img.xz", "xz -dc -T2 disk.img.xz > /dev/null", "xz -dc -T2 disk.img.xz > unpacked.img"},
	}
}

// measure prints the figures of one kind.
func (b *bench) measure(k kind, rounds int) error {
	var unpack, write, read, steps, stamp, bare []time.Duration
	var memory int64
	for range rounds {
		for _, m := range []struct {
			into *[]time.Duration
			do   func() error
		}{
			{&unpack, func() error { _, err := b.shell(k.unpackNull); return err }},
			{&write, func() error { return b.rawPass(true) }},
			{&read, func() error { return b.rawPass(false) }},
			{&steps, func() error { return b.byHand(k) }},
			{&stamp, func() error { return b.stamp(k.file, &memory) }},
			{&bare, func() error { return b.stamp(k.file, &memory, "--digest", "", "--no-read-back") }},
		} {
			if _, err := b.shell("sync"); err != nil {
				return err
			}
			start := time.Now()
			if err := m.do(); err != nil {
				return err
			}
			*m.into = append(*m.into, time.Since(start))
		}
	}
	a, w, r, c, s, n := median(unpack), median(write), median(read), median(steps), median(stamp), median(bare)
	best := max(a, w) + r
	fmt.Printf("%s\n", k.name)
	fmt.Printf("  (a) unpacking by the reference command  %6.2f s\n", a.Seconds())
	fmt.Printf("  (b) raw direct write                    %6.2f s   raw direct read %.2f s\n", w.Seconds(), r.Seconds())
	fmt.Printf("  (c) steps by hand                       %6.2f s\n", c.Seconds())
	fmt.Printf("  stamp (check, write, read back)         %6.2f s   = %.2f of max(a, b) + read   = %.2f of c\n",
		s.Seconds(), s.Seconds()/best.Seconds(), s.Seconds()/c.Seconds())
	fmt.Printf("  stamp, unchecked, not read back         %6.2f s   = %.2f of max(a, b)\n", n.Seconds(),
		n.Seconds()/max(a, w).Seconds())
	fmt.Printf("  peak memory                             %6.1f MiB\n\n", float64(memory)/(1<<20))
	return nil
}

func median(d []time.Duration) time.Duration {
	slices.Sort(d)
	return d[len(d)/2]
}

// stamp runs the tool. "--digest", "" among more stands for no check at all.
func (b *bench) stamp(file string, memory *int64, more ...string) error {
	sums := "SHA256SUMS"
	if file == "disk.img" {
		sums = "disk.sums" // a file that named the image too would have it unpacked twice
	}
	args := []string{"stamp", "--yes", "--receipt", b.path("receipt.json"), "--sums", b.path(sums)}
	if i := slices.Index(more, "--digest"); i >= 0 {
		more = slices.Delete(more, i, i+2)
		link := b.path("unchecked")
		if err := os.MkdirAll(link, 0o755); err != nil {
			return err
		}
		os.Remove(filepath.Join(link, file))
		if err := os.Symlink(b.path(file), filepath.Join(link, file)); err != nil {
			return err
		}
		args = []string{"stamp", "--yes", "--unchecked", "--receipt", b.path("receipt.json")}
		file = filepath.Join("unchecked", file)
	}
	// GNU time counts the memory of the program alone; what Go tells of a child has this process in it
	args = append(append([]string{"-f", "%M", "-o", b.path("memory"), b.tool}, args...), more...)
	cmd := exec.Command("/usr/bin/time", append(args, b.path(file), b.loop)...)
	cmd.Env = append(os.Environ(), "NO_COLOR=1")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("stamp %s: %w\n%s", file, err, out)
	}
	text, err := os.ReadFile(b.path("memory"))
	if err != nil {
		return err
	}
	kib, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	*memory = max(*memory, kib<<10)
	return err
}

// byHand does what a person types: digest, unpack to a file, copy to the device with a sync, compare.
func (b *bench) byHand(k kind) error {
	img := "disk.img"
	steps := []string{"sha256sum " + k.file}
	if k.unpackToFile != "" {
		img = "unpacked.img"
		steps = append(steps, k.unpackToFile)
	}
	steps = append(steps,
		fmt.Sprintf("cp %s %s && sync %s", img, b.loop, b.loop),
		"blockdev --flushbufs "+b.loop,
		fmt.Sprintf("cmp -n %d %s %s", b.size, img, b.loop),
		"rm -f unpacked.img")
	_, err := b.shell(strings.Join(steps, "\n"))
	return err
}

// rawPass writes or reads the size of the image directly, as fast as a small program can: three blocks in flight.
func (b *bench) rawPass(write bool) error {
	f, err := os.OpenFile(b.loop, os.O_RDWR|unix.O_DIRECT, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	next := make(chan int64)
	errs := make(chan error, 3)
	var all sync.WaitGroup
	for range 3 {
		buf, err := unix.Mmap(-1, 0, block, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
		if err != nil {
			return err
		}
		defer func() { _ = unix.Munmap(buf) }() // after all have ended
		for i := 0; i < len(buf); i += 512 {
			buf[i] = byte(i >> 9)
		}
		all.Go(func() {
			for at := range next {
				var err error
				if write {
					_, err = f.WriteAt(buf, at)
				} else {
					_, err = f.ReadAt(buf, at)
				}
				if err != nil {
					select {
					case errs <- err:
					default:
					}
				}
			}
		})
	}
	for at := int64(0); at+block <= b.size; at += block {
		next <- at
	}
	close(next)
	all.Wait()
	select {
	case err := <-errs:
		return err
	default:
	}
	if write {
		return f.Sync()
	}
	return nil
}

// start measures what a person waits for first, and the size of the program.
func (b *bench) start() error {
	var version []time.Duration
	for range 20 {
		start := time.Now()
		if err := exec.Command(b.tool, "--version").Run(); err != nil {
			return err
		}
		version = append(version, time.Since(start))
	}
	cmd := exec.Command(b.tool, "stamp", "--yes", "--receipt", b.path("receipt.json"), "--sums", b.path("SHA256SUMS"),
		b.path("disk.img.xz"), b.loop)
	progress, err := cmd.StderrPipe()
	if err != nil {
		return err
	}
	begin := time.Now()
	if err := cmd.Start(); err != nil {
		return err
	}
	if _, err := progress.Read(make([]byte, 1)); err != nil {
		return err
	}
	first := time.Since(begin)
	_, _ = io.Copy(io.Discard, progress)
	if err := cmd.Wait(); err != nil {
		return err
	}
	info, err := os.Stat(b.tool)
	if err != nil {
		return err
	}
	fmt.Printf("start (--version)        %.1f ms\nfirst progress line      %.1f ms after the start\nsize of the "+
		"program      %.1f MB\n",
		float64(median(version).Microseconds())/1000, float64(first.Microseconds())/1000, float64(info.Size())/1e6)
	return nil
}
