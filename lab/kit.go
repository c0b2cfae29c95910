//go:build linux

package lab

import (
	"bytes"
	"compress/gzip"
	"debug/elf"
	_ "embed"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
)

//go:embed guest/init
var guestInit []byte

// Kit is what machines are made from: a kernel of Debian's and a file system with busybox. It is fetched and made once,
// and kept in a folder.
type Kit struct{ folder string }

func (k *Kit) path(name string) string { return filepath.Join(k.folder, name) }

// kitVersion is changed when what is in the kit changes.
const kitVersion = "3"

// modules are what guests load, with all that these need.
const (
	cardModules = "virtio_pci virtio_blk sdhci-pci mmc_block xhci-pci usb-storage sd_mod ext4 crc32c_generic vfat " +
		"nls_cp437 nls_ascii"
	guestModules = cardModules + " virtio_console 9pnet_virtio 9p loop exfat"
)

// packages are fetched and unpacked, and not installed.
var packages = []string{
	"busybox-static", "mtools", "syslinux", "syslinux-common", "dosfstools", "e2fsprogs", "ovmf", "systemd-boot-efi",
}

// NewKit gives the kit in a folder, and makes it if it isn't there. That takes Debian on x86-64 with its package
// manager, root, and about a minute.
func NewKit(folder string) (*Kit, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	k := &Kit{folder}
	lock, err := os.Create(k.path("lock"))
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, err
	}
	if text, err := os.ReadFile(k.path("version")); err == nil && string(text) == kitVersion {
		return k, nil
	}
	if err := k.make(); err != nil {
		return nil, fmt.Errorf("make the lab's kit: %w", err)
	}
	return k, os.WriteFile(k.path("version"), []byte(kitVersion), 0o644)
}

// run runs a program of this computer or of the kit.
func (k *Kit) run(dir, name string, args ...string) (string, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	tools := k.path("tools")
	cmd.Env = append(os.Environ(), "LC_ALL=C",
		"PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin:"+tools+"/usr/bin:"+tools+"/bin:"+tools+"/sbin:"+tools+"/usr/sbin")
	if path, err := exec.LookPath(name); err != nil && !strings.Contains(name, "/") {
		for _, sub := range []string{"usr/bin", "bin", "sbin", "usr/sbin"} {
			if _, err := os.Stat(filepath.Join(tools, sub, name)); err == nil {
				cmd.Path, cmd.Err = filepath.Join(tools, sub, name), nil
			}
		}
	} else {
		cmd.Path = path
	}
	var said, failed bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &failed
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, failed.String())
	}
	return said.String(), nil
}

func (k *Kit) make() error {
	if _, err := exec.LookPath("qemu-system-x86_64"); err != nil {
		return errors.New("QEMU is not installed (Debian's qemu-system-x86)")
	}
	about, err := k.run("", "apt-cache", "depends", "linux-image-amd64")
	if err != nil {
		return err
	}
	kernel := regexp.MustCompile(`Depends: (linux-image-\S+)`).FindStringSubmatch(about)
	if kernel == nil {
		return errors.New("no kernel package was found")
	}
	fetched := k.path("fetched")
	for _, dir := range []string{fetched, k.path("tools"), k.path("kernel")} {
		if err := errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o755)); err != nil {
			return err
		}
	}
	defer os.RemoveAll(fetched)
	if _, err := k.run(fetched, "apt-get", append([]string{"-q", "download", kernel[1]}, packages...)...); err != nil {
		return err
	}
	files, err := filepath.Glob(fetched + "/*.deb")
	if err != nil {
		return err
	}
	for _, file := range files {
		to := k.path("tools")
		if strings.HasPrefix(filepath.Base(file), "linux-image") {
			to = k.path("kernel")
		}
		if _, err := k.run("", "dpkg", "-x", file, to); err != nil {
			return err
		}
	}
	defer os.RemoveAll(k.path("kernel"))
	return k.makeStart()
}

// makeStart makes the kernels and the file systems that guests start with.
func (k *Kit) makeStart() error {
	found, err := filepath.Glob(k.path("kernel/boot/vmlinuz-*"))
	if err != nil || len(found) == 0 {
		return errors.Join(err, errors.New("the package has no kernel"))
	}
	packed, err := os.ReadFile(found[0])
	if err != nil {
		return err
	}
	plain, err := unpackKernel(packed)
	if err != nil {
		return err
	}
	release := strings.TrimPrefix(filepath.Base(found[0]), "vmlinuz-")
	full, err := k.startFiles(release, guestModules)
	if err != nil {
		return err
	}
	small, err := k.startFiles(release, cardModules)
	if err != nil {
		return err
	}
	var squeezed bytes.Buffer
	z := gzip.NewWriter(&squeezed)
	if _, err := z.Write(small); err != nil {
		return err
	}
	return errors.Join(z.Close(), os.WriteFile(k.path("vmlinuz"), packed, 0o644), os.WriteFile(k.path("vmlinux"), plain,
		0o644),
		os.WriteFile(k.path("initrd"), full, 0o644), os.WriteFile(k.path("initrd-card.gz"), squeezed.Bytes(), 0o644))
}

// unpackKernel takes the kernel out of its file (Documentation/arch/x86/boot.rst), so that a guest needn't: that saves
// seconds without hardware support.
func unpackKernel(file []byte) ([]byte, error) {
	if len(file) < 0x260 {
		return nil, errors.New("the kernel's file is too short")
	}
	at := (int(file[0x1f1])+1)*512 + int(binary.LittleEndian.Uint32(file[0x248:]))
	length := int(binary.LittleEndian.Uint32(file[0x24c:]))
	if at+length > len(file) || length < 8 {
		return nil, errors.New("the kernel's file is cut short")
	}
	payload := file[at : at+length]
	command := []string{"xz", "-dc", "--single-stream"}
	if bytes.HasPrefix(payload, []byte("\x28\xb5\x2f\xfd")) {
		command, payload = []string{"zstd", "-dc"}, payload[:length-4] // its size stands behind it
	}
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Stdin = bytes.NewReader(payload)
	plain, _ := cmd.Output() // what stands behind the kernel may displease it
	if !bytes.HasPrefix(plain, []byte("\x7fELF")) {
		return nil, errors.New("the kernel can't be unpacked")
	}
	return plain, nil
}

// startFiles is a file system with busybox, the first process, and modules.
func (k *Kit) startFiles(release, wanted string) ([]byte, error) {
	busybox := k.path("tools/bin/busybox")
	text, err := os.ReadFile(busybox)
	if err != nil {
		return nil, err
	}
	var a archive
	for _, dir := range []string{
		"bin", "sbin", "proc", "sys", "dev", "lab", "tmp", "run", "mnt", "root", "etc", "sysroot", "media",
	} {
		a.folder(dir)
	}
	a.device("dev/console", 5, 1)
	a.device("dev/null", 1, 3)
	a.add("bin/busybox", text, 0o755)
	applets, err := k.run("", busybox, "--list")
	if err != nil {
		return nil, err
	}
	for name := range strings.FieldsSeq(applets) {
		if name != "busybox" {
			a.link("bin/"+name, "/bin/busybox")
		}
	}
	a.link("sbin/modprobe", "/bin/busybox") // the kernel calls it there
	a.add("init", guestInit, 0o755)
	a.add("etc/passwd", []byte("root:x:0:0:root:/root:/bin/sh\nwren:x:1000:1000:wren:/tmp:/bin/sh\n"), 0o644)
	a.add("etc/group", []byte("root:x:0:\nwren:x:1000:\n"), 0o644)
	a.add("etc/modprobe.conf", []byte("options usb-storage delay_use=0\n"), 0o644)
	if err := k.addModules(&a, release, wanted); err != nil {
		return nil, err
	}
	return a.finish(), nil
}

// addModules adds modules with what they depend on, and the index that busybox makes of them.
func (k *Kit) addModules(a *archive, release, wanted string) error {
	stage, err := os.MkdirTemp(k.folder, "stage-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(stage)
	below := "lib/modules/" + release
	files := map[string]string{} // by name
	err = filepath.WalkDir(k.path("kernel/"+below), func(path string, e fs.DirEntry, err error) error {
		if name, _, ok := strings.Cut(filepath.Base(path), ".ko"); ok && err == nil && !e.IsDir() {
			files[strings.ReplaceAll(name, "-", "_")] = path
		}
		return err
	})
	if err != nil {
		return err
	}
	var taken []string
	var take func(name string) error
	take = func(name string) error {
		path := files[strings.ReplaceAll(name, "-", "_")]
		if path == "" || slices.Contains(taken, path) {
			return nil // built in
		}
		taken = append(taken, path)
		if strings.HasSuffix(path, ".xz") {
			if _, err := k.run("", "xz", "-dkf", path); err != nil {
				return err
			}
			path = strings.TrimSuffix(path, ".xz")
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		to := filepath.Join(stage, strings.TrimPrefix(path, k.path("kernel")))
		if err := errors.Join(os.MkdirAll(filepath.Dir(to), 0o755), os.WriteFile(to, text, 0o644)); err != nil {
			return err
		}
		for _, needed := range needs(text) {
			if err := take(needed); err != nil {
				return err
			}
		}
		return nil
	}
	for name := range strings.FieldsSeq(wanted) {
		if err := take(name); err != nil {
			return err
		}
	}
	for _, list := range []string{"modules.builtin", "modules.order"} {
		if text, err := os.ReadFile(k.path("kernel/" + below + "/" + list)); err == nil {
			if err := os.WriteFile(filepath.Join(stage, below, list), text, 0o644); err != nil {
				return err
			}
		}
	}
	if _, err := k.run("", k.path("tools/bin/busybox"), "depmod", "-b", stage, release); err != nil {
		return err
	}
	return filepath.WalkDir(stage, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		a.add(strings.TrimPrefix(path, stage+"/"), text, 0o644)
		return err
	})
}

// needs are the modules that a module names in its section .modinfo, those that it only prefers too.
func needs(module []byte) (all []string) {
	f, err := elf.NewFile(bytes.NewReader(module))
	if err != nil {
		return nil
	}
	defer f.Close()
	section := f.Section(".modinfo")
	if section == nil {
		return nil
	}
	text, err := section.Data()
	if err != nil {
		return nil
	}
	for line := range strings.SplitSeq(string(text), "\x00") {
		if list, ok := strings.CutPrefix(line, "depends="); ok && list != "" {
			all = append(all, strings.Split(list, ",")...)
		}
		if list, ok := strings.CutPrefix(line, "softdep="); ok {
			for word := range strings.FieldsSeq(list) {
				if !strings.HasSuffix(word, ":") {
					all = append(all, word)
				}
			}
		}
	}
	return all
}
