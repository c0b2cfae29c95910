package card

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"
)

// sysfsSector is the unit of a size in sysfs, bytes, whatever the device's sector is
// (Documentation/ABI/stable/sysfs-block, "size").
const sysfsSector = 512

// number is a device's major and minor number.
type number struct{ major, minor uint32 }

func (n number) String() string { return fmt.Sprintf("%d:%d", n.major, n.minor) }

// numberOf is the number of the block device at path.
func numberOf(path string) (number, bool) {
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil || st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return number{}, false
	}
	return number{unix.Major(st.Rdev), unix.Minor(st.Rdev)}, true
}

// findBlock fills in what the kernel says of the block device. The error is a *RefusedError for a partition.
func (c *Card) findBlock() error {
	own, ok := numberOf(c.Path)
	if !ok {
		return &RefusedError{Card: c.Given, Reasons: []string{"it is gone"}}
	}
	folder, err := filepath.EvalSymlinks("/sys/dev/block/" + own.String())
	if err != nil {
		return &RefusedError{Card: c.Given, Reasons: []string{"the kernel knows no such device any more"}, Err: err}
	}
	if n := attribute(folder, "partition"); n != "" {
		whole := deviceOf(filepath.Dir(folder))
		return &RefusedError{
			Card:    c.Given,
			Reasons: []string{fmt.Sprintf("it is partition %s of the card %s, and an image is for a whole card", n, whole)},
			Next:    "name the whole card: " + whole,
		}
	}
	c.Kind = Block
	c.Name = filepath.Base(deviceOf(folder))
	sectors, _ := strconv.ParseInt(attribute(folder, "size"), 10, 64)
	c.Size = sectors * sysfsSector
	c.SectorSize, _ = strconv.Atoi(attribute(folder, "queue/logical_block_size"))
	c.ReadOnly = attribute(folder, "ro") == "1"
	c.Model, c.Serial = identity(folder)
	c.Virtual = virtual(folder)
	parts := partsOf(folder, own)
	c.Holders = holders(folder, parts)
	c.Mounts, err = mountsOf(parts)
	if err != nil {
		return fmt.Errorf("find out what is mounted: %w", err)
	}
	c.Swaps = swapsOf(parts)
	return nil
}

// attribute reads a file of sysfs; "" if there is none.
func attribute(folder, name string) string {
	text, err := os.ReadFile(filepath.Join(folder, name))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

// deviceOf is the device node of a folder in sysfs; the kernel writes a slash in a name as "!".
func deviceOf(folder string) string {
	return "/dev/" + strings.ReplaceAll(filepath.Base(folder), "!", "/")
}

// identity is what the device says of itself: SCSI and USB have vendor and model, SD cards a name.
func identity(folder string) (model, serial string) {
	model = strings.TrimSpace(attribute(folder, "device/vendor") + " " + attribute(folder, "device/model"))
	if name := attribute(folder, "device/name"); name != "" && strings.HasPrefix(filepath.Base(folder), "mmcblk") {
		model = name
	}
	if file := attribute(folder, "loop/backing_file"); file != "" {
		model = "loop device on " + file
	}
	return model, attribute(folder, "device/serial")
}

// virtual says what a device is that is made of others.
func virtual(folder string) string {
	switch name := filepath.Base(folder); {
	case exists(folder, "dm"):
		return "a volume of the device mapper (LVM, encryption or the like)"
	case exists(folder, "md"):
		return "a RAID array"
	case strings.HasPrefix(name, "zram"), strings.HasPrefix(name, "ram"):
		return "a disk in this computer's memory"
	}
	return ""
}

func exists(folder, name string) bool {
	_, err := os.Lstat(filepath.Join(folder, name))
	return err == nil
}

// partsOf lists the whole device and its partitions, with their device nodes.
func partsOf(folder string, own number) map[number]string {
	parts := map[number]string{own: deviceOf(folder)}
	children, _ := os.ReadDir(folder)
	for _, child := range children {
		sub := filepath.Join(folder, child.Name())
		if attribute(sub, "partition") == "" {
			continue
		}
		var n number
		if _, err := fmt.Sscanf(attribute(sub, "dev"), "%d:%d", &n.major, &n.minor); err == nil {
			parts[n] = deviceOf(sub)
		}
	}
	return parts
}

// holders lists the devices that are built on the device or its partitions.
func holders(folder string, parts map[number]string) []string {
	var all []string
	for _, part := range parts {
		where := folder
		if base := filepath.Base(part); base != filepath.Base(folder) {
			where = filepath.Join(folder, base)
		}
		entries, _ := os.ReadDir(filepath.Join(where, "holders"))
		for _, e := range entries {
			what := e.Name()
			if name := attribute(filepath.Join(where, "holders", what), "dm/name"); name != "" {
				what += " (" + name + ")"
			}
			all = append(all, fmt.Sprintf("%s, which is built on %s", what, part))
		}
	}
	return all
}

// mountsOf lists the mounted file systems of the parts. The kernel gives some file systems (btrfs) a number of
// their own, so the source is looked at too.
func mountsOf(parts map[number]string) ([]Mount, error) {
	all, err := mountinfo.GetMounts(nil)
	if err != nil {
		return nil, err
	}
	var found []Mount
	for _, m := range all {
		source, ok := parts[number{uint32(m.Major), uint32(m.Minor)}]
		if !ok && strings.HasPrefix(m.Source, "/") {
			if n, isBlock := numberOf(m.Source); isBlock {
				source, ok = parts[n]
			}
		}
		if ok {
			found = append(found, Mount{source, m.Mountpoint})
		}
	}
	return found, nil
}

// swaps lists the paths of the swap areas in use.
func swaps() []string {
	f, err := os.Open("/proc/swaps")
	if err != nil {
		return nil
	}
	defer f.Close()
	var paths []string
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		path, _, _ := strings.Cut(lines.Text(), " ")
		if strings.HasPrefix(path, "/") {
			paths = append(paths, strings.ReplaceAll(path, `\040`, " ")) // as the kernel escapes it
		}
	}
	return paths
}

// swapsOf lists the swap areas in use on the parts.
func swapsOf(parts map[number]string) []string {
	var found []string
	for _, path := range swaps() {
		if n, ok := numberOf(path); ok && parts[n] != "" {
			found = append(found, parts[n])
		}
	}
	return found
}

// swapFiles tells whether the plain file at path is in use as swap.
func swapFiles(path string) []string {
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	for _, s := range swaps() {
		if other, err := os.Stat(s); err == nil && os.SameFile(info, other) {
			return []string{s}
		}
	}
	return nil
}

func isNoMedium(err error) bool { return errors.Is(err, unix.ENOMEDIUM) }
