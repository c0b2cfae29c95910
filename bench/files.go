//go:build linux

package main

import (
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"
)

// runFiles measures cards of loose files against what a person does: unpack the archive, make a file system, copy the
// files, copy them back and compare.
func runFiles(work string, rounds int) error {
	b := &bench{work: work}
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	if err := b.build(); err != nil {
		return err
	}
	// some large files as systems have them, and many small ones; FAT can't have all names of the Go tree
	const make = `rm -rf loose; mkdir loose; root=$(go env GOROOT)
		for i in 1 2 3 4 5 6; do
			head -qc 40000000 $root/bin/go /dev/urandom | head -c 60000000 > loose/kernel$i.img
		done
		cp -rL $root/src/net $root/src/runtime loose/
		find loose -name '*[:*?"<>|]*' -delete; find loose -type f -empty -delete
		rm -f loose.zip loose.tar.xz; zip -qr loose.zip loose; tar cf - loose | xz -1T2 > loose.tar.xz
		sha256sum loose.zip loose.tar.xz > SHA256SUMS; rm -f card.bin; fallocate -l 1G card.bin`
	if _, err := b.shell(make); err != nil {
		return err
	}
	out, err := b.shell("losetup --direct-io=on --show -f card.bin")
	if err != nil {
		return err
	}
	b.loop = strings.TrimSpace(out)
	defer func() { _, _ = b.shell("losetup -d " + b.loop) }()
	count, err := b.shell("find loose -type f | wc -l; du -sm loose | cut -f1")
	if err != nil {
		return err
	}
	fmt.Printf("%s files and MiB, median of %d rounds\n\n", strings.Join(strings.Fields(count), " "), rounds)
	for file, unpack := range map[string]string{
		"loose.zip": "unzip -q loose.zip -d out", "loose.tar.xz": "tar xf loose.tar.xz -C out",
	} {
		var hand, ours []time.Duration
		memory := int64(0)
		for range rounds {
			steps := strings.Join([]string{
				"rm -rf out back; mkdir out back", "sha256sum " + file, unpack, "mkfs.vfat -F 32 " + b.loop,
				"mcopy -s -i " + b.loop + " out/loose/* ::/", "sync " + b.loop, "blockdev --flushbufs " + b.loop,
				"mcopy -s -n -i " + b.loop + " '::/*' back/", "diff -r out/loose back", "rm -rf out back",
			}, "\n")
			start := time.Now()
			if out, err := b.shell(steps); err != nil {
				return fmt.Errorf("%w: %s", err, out)
			}
			hand = append(hand, time.Since(start))
			start = time.Now()
			cmd := exec.Command("/usr/bin/time", "-f", "%M", "-o", b.path("memory"), b.tool, "blank", "--yes",
				"--receipt",
				b.path("receipt.json"), "--with", b.path(file), b.loop)
			if out, err := cmd.CombinedOutput(); err != nil {
				return fmt.Errorf("%w: %s", err, out)
			}
			ours = append(ours, time.Since(start))
			text, err := os.ReadFile(b.path("memory"))
			if err != nil {
				return err
			}
			kib, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
			if err != nil {
				return err
			}
			memory = max(memory, kib<<10)
		}
		h, o := median(hand), median(ours)
		fmt.Printf("%s\n  steps by hand          %6.2f s\n  blank --with           %6.2f s   = %.2f of them\n"+
			"  peak memory            %6.1f MiB\n\n", file, h.Seconds(), o.Seconds(), o.Seconds()/h.Seconds(),
			float64(memory)/(1<<20))
	}
	return nil
}
