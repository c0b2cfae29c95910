//go:build linux

package main

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"zipstamp/internal/image"
	"zipstamp/internal/layout"
)

// unpacking is a packed file, and the reference command that unpacks it, on so many cores.
type unpacking struct {
	name, file, pack, reference string
	cores                       int
}

var unpackings = []unpacking{
	{"xz, one block, one core", "one.img.xz", "xz -T1 -c disk.img > one.img.xz", "xz -dc -T1 one.img.xz", 1},
	{"xz, one block, two cores", "one.img.xz", "", "xz -dc -T2 one.img.xz", 2},
	{"xz, many blocks, two cores", "disk.img.xz", "xz -kT2 disk.img", "xz -dc -T2 disk.img.xz", 2},
	{"gzip, one core", "disk.img.gz", "gzip -k disk.img", "gzip -dc disk.img.gz", 1},
	{"gzip, two cores", "disk.img.gz", "", "pigz -dc disk.img.gz", 2},
	{"zstd, one core", "disk.img.zst", "zstd -q -T2 disk.img", "zstd -qdc disk.img.zst", 1},
	{"zstd, two cores", "disk.img.zst", "", "zstd -qdc disk.img.zst", 2},
	{"bzip2, one core", "disk.img.bz2", "bzip2 -k disk.img", "bzip2 -dc disk.img.bz2", 1},
	{"bzip2, two cores", "disk.img.bz2", "", "lbzip2 -n2 -dc disk.img.bz2", 2},
	{"lz4, one core", "disk.img.lz4", "lz4 -q disk.img disk.img.lz4", "lz4 -qdc disk.img.lz4", 1},
	{"7z, two cores", "disk.7z", "7z a -mx5 disk.7z disk.img > 7z.log", "7z x -so -mmt2 disk.7z", 2},
}

// runUnpack measures the decoders against the reference commands on as many cores, with the output thrown away; then a
// check against the digest command, and peek. xz is the command that xz files are compared with beside "xz".
func runUnpack(work string, size int64, rounds int, xz string, onlyPeek bool) error {
	b := &bench{work: work, size: size}
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	if err := b.build(); err != nil {
		return err
	}
	if err := b.makeImage(); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if onlyPeek {
		return b.comparePeek(rounds)
	}
	for _, u := range unpackings {
		if _, err := os.Stat(b.path(u.file)); err != nil && u.pack != "" {
			fmt.Fprintf(os.Stderr, "making %s ...\n", u.file)
			if _, err := b.shell(u.pack); err != nil {
				return err
			}
		}
	}
	fmt.Printf("image of %d MiB, median of %d rounds; memory is the peak\n\n%-28s %12s %12s %7s %10s %10s\n", size>>20,
		rounds, "", "reference", "ours", "ratio", "memory", "ours")
	for _, u := range unpackings {
		cores := fmt.Sprintf("0-%d", u.cores-1)
		if err := b.compare(u.name, rounds, "taskset -c "+cores+" "+u.reference,
			"taskset -c "+cores+" "+self+" -unpack "+u.file); err != nil {
			return err
		}
		options, isXZ := strings.CutPrefix(u.reference, "xz ")
		if !isXZ || xz == "xz" {
			continue
		}
		if err := b.compare("  the same, and "+filepath.Base(xz), rounds, "taskset -c "+cores+" "+xz+" "+options,
			"taskset -c "+cores+" "+self+" -unpack "+u.file); err != nil {
			return err
		}
	}
	if _, err := b.shell("sha256sum disk.img > disk.sums"); err != nil {
		return err
	}
	ours := b.tool + " check --sums disk.sums disk.img"
	if err := b.compare("check of the image", rounds, "sha256sum disk.img", ours); err != nil {
		return err
	}
	return b.comparePeek(rounds)
}

// comparePeek measures peek, and shows what it says.
func (b *bench) comparePeek(rounds int) error {
	if b.size < 512<<20 {
		fmt.Println("peek is left out: it needs an image of 512 MiB")
		return nil
	}
	if err := b.makePeek(); err != nil {
		return err
	}
	ours := b.tool + " peek peek.img.xz"
	if err := b.compare("peek, against unpacking all", rounds, "xz -dc -T2 peek.img.xz", ours); err != nil {
		return err
	}
	out, err := b.shell(b.tool + " peek peek.img.xz")
	fmt.Print("\n", out)
	return err
}

// makePeek makes an image as systems have them, of the size of the others: a boot partition with kernels, and one for
// the system.
func (b *bench) makePeek() error {
	if _, err := os.Stat(b.path("peek.img.xz")); err == nil {
		return nil
	}
	fmt.Fprintln(os.Stderr, "making peek.img.xz ...")
	if _, err := b.shell("cp disk.img peek.img"); err != nil {
		return err
	}
	f, err := os.OpenFile(b.path("peek.img"), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	const bootStart, bootSectors, systemStart = 8192, 260_000, 1 << 20 / 2 // sectors of 512 bytes
	kernel := make([]byte, 8<<20)
	if _, err := f.ReadAt(kernel, 200<<20); err != nil {
		return err
	}
	copy(kernel[56:], "ARM\x64")
	files := []struct {
		path string
		data []byte
	}{
		{"kernel8.img", kernel},
		{"initrd.bin", kernel[:6<<20]},
		{"brindle2.dtb", kernel[1000:30_000]},
		{"brindle3.dtb", kernel[1000:31_000]},
	}
	boot := layout.NewFAT{
		Wanted: layout.FAT16Kind, Label: "SALTBOOT", Sector: 512, Start: bootStart * 512, Size: bootSectors * 512,
		Time: time.Unix(1_777_777_777, 0),
	}
	for _, f := range files {
		boot.Files = append(boot.Files, layout.NewFile{Path: f.path, Size: int64(len(f.data))})
	}
	plan, err := boot.Plan()
	if err != nil {
		return err
	}
	if err := plan.WriteTo(f, func(i int) []byte { return files[i].data }); err != nil {
		return err
	}
	mbr := layout.MBR(1, layout.Partition{Type: layout.TypeFAT16LBA, Start: bootStart, Sectors: bootSectors},
		layout.Partition{Type: 0x83, Start: systemStart, Sectors: uint32(b.size/512) - systemStart})
	if _, err := f.WriteAt(mbr[:], 0); err != nil {
		return err
	}
	_, err = b.shell(fmt.Sprintf("mkfs.ext4 -q -F -L system -E offset=%d peek.img %dk; xz -2T2 peek.img",
		systemStart*512, (b.size-systemStart*512)>>10))
	return err
}

// compare measures two commands by turns.
func (b *bench) compare(name string, rounds int, reference, ours string) error {
	var times [2][]time.Duration
	var memory [2]int64
	for range rounds {
		for i, command := range []string{reference, ours} {
			start := time.Now()
			peak, err := b.timed(command)
			if err != nil {
				return err
			}
			times[i] = append(times[i], time.Since(start))
			memory[i] = max(memory[i], peak)
		}
	}
	r, o := median(times[0]), median(times[1])
	fmt.Printf("%-28s %10.2f s %10.2f s %7.2f %6d MiB %6d MiB\n", name, r.Seconds(), o.Seconds(),
		o.Seconds()/r.Seconds(), memory[0]>>20, memory[1]>>20)
	return nil
}

// timed runs a command with its output thrown away, and returns its peak memory in bytes.
func (b *bench) timed(command string) (int64, error) {
	args := append([]string{"-f", "%M", "-o", b.path("memory")}, strings.Fields(command)...)
	cmd := exec.Command("/usr/bin/time", args...)
	cmd.Dir = b.work
	cmd.Stdout = nil // the null device
	cmd.Env = append(os.Environ(), "NO_COLOR=1")
	if err := cmd.Run(); err != nil {
		return 0, fmt.Errorf("%s: %w", command, err)
	}
	text, err := os.ReadFile(b.path("memory"))
	if err != nil {
		return 0, err
	}
	kib, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	return kib << 10, err
}

// unpackOne unpacks a file as the tool does.
func unpackOne(path string) error {
	debug.SetGCPercent(50) // as the tool does
	f, err := image.Open(filepath.Clean(path))
	if err != nil {
		return err
	}
	defer f.Close()
	c, err := f.Look("")
	if err != nil {
		return err
	}
	s, err := f.Unpack(c, nil)
	if err != nil {
		return err
	}
	defer s.Close()
	buf := make([]byte, 4<<20)
	for {
		if _, err := s.Read(buf); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}
