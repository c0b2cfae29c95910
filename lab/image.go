//go:build linux

package lab

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"zipstamp/internal/layout"
)

// What the bootable image has: a FAT partition with boot loader, kernel and start files, and an ext4 partition with the
// system. In bytes.
const (
	bootStart, bootSize     = 1 << 20, 31 << 20
	systemStart, systemSize = 32 << 20, 8 << 20
	typeLinux               = 0x83
)

// MakeImage makes a small disk image that a PC starts from; its system says a line on the serial port, and turns the
// machine off.
func (k *Kit) MakeImage(path, line string) error {
	dir, err := os.MkdirTemp("", "lab-image-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := k.makeTable(path); err != nil {
		return err
	}
	start, err := k.startWith("root=saltroot")
	if err != nil {
		return err
	}
	loader := "SERIAL 0 115200\nPROMPT 0\nTIMEOUT 1\nDEFAULT salt\nLABEL salt\n KERNEL vmlinuz\n INITRD initrd\n " +
		"APPEND " + kernelLine + "\n"
	system := "#!/bin/sh\nb=/bin/busybox\n$b mount -t proc proc /proc\nexec >/dev/console 2>&1\n$b echo\n$b grep ' / " +
		"' /proc/mounts\n$b echo '" + line + "'\n$b poweroff -f\n"
	busybox, err := os.ReadFile(k.path("tools/bin/busybox"))
	if err != nil {
		return err
	}
	for name, f := range map[string]struct {
		text []byte
		mode os.FileMode
	}{
		"initrd": {start, 0o644}, "syslinux.cfg": {[]byte(loader), 0o644},
		"system/bin/busybox": {busybox, 0o755}, "system/sbin/init": {[]byte(system), 0o755},
		"system/dev/.keep": {nil, 0o644}, "system/proc/.keep": {nil, 0o644}, "system/sys/.keep": {nil, 0o644},
	} {
		to := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(to), 0o755), os.WriteFile(to, f.text, f.mode)); err != nil {
			return err
		}
	}
	if err := os.Symlink("busybox", filepath.Join(dir, "system/bin/sh")); err != nil {
		return err
	}
	fat := fmt.Sprintf("%s@@%d", path, bootStart)
	for _, command := range [][]string{
		{
			"mkfs.vfat", "--offset", fmt.Sprint(bootStart / layout.SectorSize), "-F", "16", "-n", "SALTBOOT", path,
			fmt.Sprint(bootSize >> 10),
		},
		{"mcopy", "-i", fat, k.path("vmlinuz"), "::vmlinuz"},
		{"mcopy", "-i", fat, filepath.Join(dir, "initrd"), "::initrd"},
		{"mcopy", "-i", fat, filepath.Join(dir, "syslinux.cfg"), "::syslinux.cfg"},
		{"syslinux", "--offset", fmt.Sprint(bootStart), "--install", path},
		{
			"mkfs.ext4", "-q", "-F", "-L", "saltroot", "-d", filepath.Join(dir, "system"), "-E",
			fmt.Sprintf("offset=%d", systemStart), path, fmt.Sprintf("%dk", systemSize>>10),
		},
	} {
		if _, err := k.run(dir, command[0], command[1:]...); err != nil {
			return err
		}
	}
	return nil
}

// startWith is the first file system of a card that starts by itself, with a setting for its first process.
func (k *Kit) startWith(setting string) ([]byte, error) {
	start, err := os.ReadFile(k.path("initrd-card.gz"))
	if err != nil {
		return nil, err
	}
	for len(start)%4 != 0 {
		start = append(start, 0)
	}
	var settings archive
	settings.add("lab/settings", []byte(
		"modules='virtio_pci virtio_blk sdhci-pci mmc_block sd_mod usb-storage xhci-pci ext4 vfat'\n"+setting+"\n",
	), 0o644)
	return append(start, settings.finish()...), nil
}

// MakeFiles makes an archive of the loose files of a system, in a folder of their own, that a computer with UEFI starts
// from: a boot loader, a kernel, and a text with a line that the system shows when it has mounted the card, whose label
// is SALTBOOT.
func (k *Kit) MakeFiles(path, line string) error {
	start,
		err := k.startWith("run='until dev=$(findfs LABEL=SALTBOOT); do usleep 50000; done; mount -o ro $dev /mnt; " +
		"cat " +
		"\"/mnt/texts/High water.txt\" >/dev/console; grep /mnt /proc/mounts >/dev/console; poweroff -f'")
	if err != nil {
		return err
	}
	files := map[string][]byte{
		"initrd": start, "loader/loader.conf": []byte("timeout 0\ndefault salt\n"),
		"loader/entries/salt.conf": []byte("title Saltmarsh OS\nlinux /vmlinuz\ninitrd /initrd\noptions " + kernelLine +
			"\n"),
		"texts/High water.txt": []byte(line + "\n"),
	}
	for name, from := range map[string]string{
		"vmlinuz": "vmlinuz", "EFI/BOOT/BOOTX64.EFI": "tools/usr/lib/systemd/boot/efi/systemd-bootx64.efi",
	} {
		if files[name], err = os.ReadFile(k.path(from)); err != nil {
			return err
		}
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	z := zip.NewWriter(f)
	for name, text := range files {
		w, err := z.Create("saltmarsh-1.2/" + name)
		if err != nil {
			return err
		}
		if _, err := w.Write(text); err != nil {
			return err
		}
	}
	return errors.Join(z.Close(), f.Sync())
}

// makeTable makes a file with boot code and partition table.
func (k *Kit) makeTable(path string) error {
	code, err := os.ReadFile(k.path("tools/usr/lib/syslinux/mbr/mbr.bin"))
	if err != nil {
		return err
	}
	mbr := layout.MBR(0x5a17b007,
		layout.Partition{
			Type: layout.TypeFAT16LBA, Active: true, Start: bootStart / layout.SectorSize,
			Sectors: bootSize / layout.SectorSize,
		},
		layout.Partition{
			Type: typeLinux, Start: systemStart / layout.SectorSize, Sectors: systemSize / layout.SectorSize,
		})
	copy(mbr[:440], code)
	if err := os.WriteFile(path, mbr[:], 0o644); err != nil {
		return err
	}
	return os.Truncate(path, systemStart+systemSize)
}

// Boot starts a machine from a card in its SD slot, or from a stick, as a computer does: the firmware looks for the
// boot loader on it. It returns when the line is on the serial port, with all that was said before.
func (k *Kit) Boot(ctx context.Context, m *Medium, slot bool, line string) (string, error) {
	return k.boot(ctx, m, slot, nil, line)
}

// BootUEFI does the same on a computer with UEFI, whose firmware looks for a boot loader among the files of the card.
func (k *Kit) BootUEFI(ctx context.Context, m *Medium, slot bool, line string) (string, error) {
	folder := k.path("tools/usr/share/OVMF")
	return k.boot(ctx, m, slot, []string{
		"-drive", "if=pflash,format=raw,readonly=on,unit=0,file=" + filepath.Join(folder, "OVMF_CODE.fd"),
		"-drive", "if=pflash,format=raw,snapshot=on,unit=1,file=" + filepath.Join(folder, "OVMF_VARS.fd"),
	}, line)
}

func (k *Kit) boot(ctx context.Context, m *Medium, slot bool, firmware []string, line string) (string, error) {
	dir, err := os.MkdirTemp("", "lab-boot-")
	if err != nil {
		return "", err
	}
	g := &Guest{dir: dir, ended: make(chan struct{}), ports: nil}
	defer g.Stop()
	args := board(1, usualMemory)
	if slot {
		m.id = "sd0"
	} else {
		m.id = "usb0"
		args = append(args, "-device", "qemu-xhci,id=xhci,p2=8,p3=8")
	}
	args = append(args, m.arguments()...)
	args = append(args, firmware...)
	args = append(args, "-serial", "stdio")
	for i, a := range args { // it needn't wait for anybody
		if a == "-S" {
			args = append(args[:i:i], args[i+1:]...)
			break
		}
	}
	return g.watch(ctx, args, line)
}

// watch starts QEMU and waits for a line on its output.
func (g *Guest) watch(ctx context.Context, args []string, line string) (string, error) {
	said := &watched{line: []byte(line), seen: make(chan struct{})}
	r, w, err := os.Pipe()
	if err != nil {
		return "", err
	}
	defer r.Close()
	if err := g.launchWith(args, w); err != nil {
		w.Close()
		return "", err
	}
	var copying sync.WaitGroup
	copying.Go(func() { _, _ = io.Copy(said, r) }) // ends when nobody holds the other end any more
	select {
	case <-said.seen:
	case <-g.ended:
	case <-ctx.Done():
	}
	_ = g.cmd.Process.Kill()
	<-g.ended
	w.Close()
	copying.Wait()
	if !bytes.Contains(said.all.Bytes(), said.line) {
		err = errors.Join(errors.New("the line never came"), context.Cause(ctx))
	}
	return said.all.String(), err
}

// watched looks for a line in what is written to it.
type watched struct {
	mu   sync.Mutex
	all  bytes.Buffer
	line []byte
	seen chan struct{}
	once sync.Once
}

func (w *watched) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.all.Write(p)
	if bytes.Contains(w.all.Bytes(), w.line) {
		w.once.Do(func() { close(w.seen) })
	}
	return len(p), nil
}
