//go:build linux

package linux

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/moby/sys/mountinfo"

	"zipstamp/internal/card/disks"
)

// mountpoint is a mount, and what it is on.
type mountpoint struct {
	point, kind, source string
	on                  []string // names of disks and partitions; empty for what is on none (proc, nfs)
	dirs                []string // of an overlay: the folders that it is made of
}

// readUses finds out what the computer uses its disks for.
func (m *machine) readUses() error {
	if err := m.readMounts(); err != nil {
		return fmt.Errorf("find out what is mounted: %w", err)
	}
	m.putLoopsOnDisks()
	for _, mount := range m.mounts {
		m.useFor(mount)
	}
	m.readSwaps()
	m.findRoot()
	return nil
}

// readMounts reads the mounts that this program sees, and those of the first process: they differ in a container or a
// sandbox.
func (m *machine) readMounts() error {
	own, err := os.ReadFile(m.path("proc/self/mountinfo"))
	if err != nil {
		return err
	}
	first, _ := os.ReadFile(m.path("proc/1/mountinfo")) // it may be hidden from this user
	for i, text := range [][]byte{own, first} {
		infos, err := mountinfo.GetMountsFromReader(bytes.NewReader(text), nil)
		if err != nil {
			if i > 0 {
				continue
			}
			return err
		}
		for _, info := range infos {
			mount := m.place(info)
			if !slices.ContainsFunc(m.mounts, func(x mountpoint) bool {
				return x.point == mount.point && slices.Equal(x.on, mount.on)
			}) {
				m.mounts = append(m.mounts, mount)
			}
		}
	}
	return nil
}

// place finds out what a mount is on: by its device number, or, where the kernel gives the file system a number of its
// own (btrfs), by its source.
func (m *machine) place(info *mountinfo.Info) mountpoint {
	mount := mountpoint{point: info.Mountpoint, kind: info.FSType, source: info.Source}
	at := number{uint32(info.Major), uint32(info.Minor)}
	if n := m.byNumber(at); n != nil {
		mount.on = []string{n.name}
	} else if n := m.byPath(info.Source); n != nil {
		mount.on = []string{n.name}
	}
	switch info.FSType {
	case "btrfs":
		mount.on = m.btrfs(mount.on)
	case "overlay":
		for option := range strings.SplitSeq(info.VFSOptions, ",") {
			if name, dirs, ok := strings.Cut(option, "="); ok && (name == "lowerdir" || name == "upperdir") {
				mount.dirs = append(mount.dirs, strings.Split(dirs, ":")...)
			}
		}
	}
	return mount
}

func (m *machine) byNumber(n number) *node {
	if n == (number{}) {
		return nil
	}
	for _, one := range m.byName {
		if one.number == n {
			return one
		}
	}
	return nil
}

// byPath finds a device node, by its links if it has any.
func (m *machine) byPath(path string) *node {
	below, ok := strings.CutPrefix(path, "/dev/")
	if !ok {
		return nil
	}
	if real, err := filepath.EvalSymlinks(m.path(path)); err == nil {
		if rest, err := filepath.Rel(m.path("dev"), real); err == nil {
			below = rest
		}
	}
	return m.byName[strings.ReplaceAll(below, "/", "!")]
}

// btrfs gives all devices of the file system that has the one named.
func (m *machine) btrfs(on []string) []string {
	for _, id := range names(m.path("sys/fs/btrfs")) {
		devices := names(m.path("sys/fs/btrfs", id, "devices"))
		if len(on) > 0 && slices.Contains(devices, on[0]) {
			return devices
		}
	}
	return on
}

// mountOf is the mount that a file is on: the last one of those with the longest path.
func (m *machine) mountOf(file string) *mountpoint {
	var best *mountpoint
	for i := range m.mounts {
		p := m.mounts[i].point
		if (file == p || p == "/" || strings.HasPrefix(file, p+"/")) && (best == nil || len(p) >= len(best.point)) {
			best = &m.mounts[i]
		}
	}
	return best
}

// putLoopsOnDisks finds the disks that the files of loop devices are on.
func (m *machine) putLoopsOnDisks() {
	for _, d := range m.disks {
		n := m.byName[filepath.Base(d.Path)]
		file := attribute(n.folder, "loop/backing_file")
		if mount := m.mountOf(file); file != "" && mount != nil {
			n.below = append(n.below, mount.on...)
			for _, on := range mount.on {
				under := m.byName[on]
				if under == nil {
					continue
				}
				under.disk.Holders = append(under.disk.Holders, disks.Holder{Name: d.Name, File: file})
			}
		}
	}
}

// carriers are the disks that a disk or partition is on in the end, and those between, each with the volume on the way.
func (m *machine) carriers(name string) map[*disks.Disk]string {
	found := map[*disks.Disk]string{}
	var visit func(name, via string)
	visit = func(name, via string) {
		n := m.byName[name]
		if n == nil {
			return
		}
		if _, seen := found[n.disk]; seen {
			return
		}
		found[n.disk] = via
		for _, below := range m.byName[filepath.Base(n.disk.Path)].below {
			visit(below, n.title())
		}
	}
	visit(name, "")
	return found
}

// title is a volume's name for people.
func (n *node) title() string {
	if name := attribute(n.folder, "dm/name"); name != "" {
		return name
	}
	return n.name
}

// useFor notes a mount with all disks that carry it.
func (m *machine) useFor(mount mountpoint) {
	for _, name := range m.under(mount, map[string]bool{}) {
		for d, via := range m.carriers(name) {
			one := disks.Mount{
				Source: pathOf(name), Name: name, Point: mount.point, Kind: mount.kind, Via: via,
				ByDesktop: isDesktopPoint(mount.point),
			}
			if len(mount.dirs) > 0 {
				one.Via = "overlay"
			}
			if !slices.Contains(d.Mounts, one) {
				d.Mounts = append(d.Mounts, one)
			}
			switch {
			case isSystemPoint(mount.point):
				addSystem(d, disks.SystemUse{How: disks.Mounted, Point: mount.point})
			case slices.Contains(m.atStart(), mount.point):
				addSystem(d, disks.SystemUse{How: disks.AtStart, Point: mount.point})
			}
		}
	}
}

// under are the names of what a mount is on; those of an overlay are what its folders are on.
func (m *machine) under(mount mountpoint, seen map[string]bool) []string {
	all := slices.Clone(mount.on)
	for _, dir := range mount.dirs {
		if seen[dir] {
			continue
		}
		seen[dir] = true
		if below := m.mountOf(dir); below != nil && below.point != mount.point {
			all = append(all, m.under(*below, seen)...)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

func addSystem(d *disks.Disk, use disks.SystemUse) {
	if !slices.Contains(d.System, use) {
		d.System = append(d.System, use)
	}
}

// isDesktopPoint tells the places where desktops mount what is plugged in.
func isDesktopPoint(point string) bool {
	return strings.HasPrefix(point, "/media/") || strings.HasPrefix(point, "/run/media/")
}

// systemPoints are mount points whose loss would harm the computer itself.
var systemPoints = []string{
	"/", "/boot", "/efi", "/usr", "/home", "/var", "/etc", "/opt", "/srv", "/root", "/nix", "/gnu", "/sysroot",
	"/cdrom", "/run/live", "/run/initramfs", "/lib/live",
}

// atStart are the mount points that the system mounts by itself when it starts (fstab(5)).
func (m *machine) atStart() (points []string) {
	text, _ := os.ReadFile(m.path("etc/fstab")) // none: then there are none
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) < 4 || strings.HasPrefix(fields[0], "#") || !strings.HasPrefix(fields[1], "/") {
			continue
		}
		options := strings.Split(fields[3], ",")
		if !slices.ContainsFunc(options, func(o string) bool { return o == "noauto" || o == "user" || o == "users" }) {
			points = append(points, unescapeOctal(fields[1]))
		}
	}
	return points
}

// isSystemPoint tells whether a mount is part of the system. Cards are mounted below homes too, so there only the homes
// themselves are.
func isSystemPoint(point string) bool {
	return slices.ContainsFunc(systemPoints, func(s string) bool {
		return point == s || s != "/" && s != "/home" && s != "/root" && strings.HasPrefix(point, s+"/")
	})
}

// Swaps are the partitions and files that are in use as swap.
func (t Tree) Swaps() []string {
	f, err := os.Open(t.path("proc/swaps"))
	if err != nil {
		return nil // a kernel without swap
	}
	defer f.Close()
	var all []string
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		path, _, _ := strings.Cut(strings.ReplaceAll(lines.Text(), "\t", " "), " ")
		if strings.HasPrefix(path, "/") { // and not the heading
			all = append(all, unescapeOctal(path))
		}
	}
	return all
}

// readSwaps notes the swap in use: partitions, and files by what they are on.
func (m *machine) readSwaps() {
	for _, path := range m.Swaps() {
		swap, on := disks.Swap{Path: path}, []string{}
		if n := m.byPath(path); n != nil {
			on = []string{n.name}
		} else if mount := m.mountOf(path); mount != nil {
			swap.On, on = mount.point, m.under(*mount, map[string]bool{})
		}
		for _, name := range on {
			for d, via := range m.carriers(name) {
				one := swap
				one.Via = via
				d.Swaps = append(d.Swaps, one)
			}
		}
	}
}

// unescapeOctal undoes the kernel's escapes of spaces and the like: \040.
func unescapeOctal(s string) string {
	for code, char := range map[string]string{`\040`: " ", `\011`: "\t", `\012`: "\n", `\134`: `\`} {
		s = strings.ReplaceAll(s, code, char)
	}
	return s
}

// findRoot asks the kernel's command line for the root where no disk is known to carry it, as in a container.
func (m *machine) findRoot() {
	for _, d := range m.disks {
		if slices.Contains(d.System, disks.SystemUse{How: disks.Mounted, Point: "/"}) {
			return
		}
	}
	line, _ := os.ReadFile(m.path("proc/cmdline"))
	for word := range strings.FieldsSeq(string(line)) {
		root, ok := strings.CutPrefix(word, "root=")
		if !ok {
			continue
		}
		for tag, folder := range map[string]string{
			"UUID=": "by-uuid/", "PARTUUID=": "by-partuuid/", "LABEL=": "by-label/",
		} {
			if value, ok := strings.CutPrefix(root, tag); ok {
				root = "/dev/disk/" + folder + value
			}
		}
		if n := m.byPath(root); n != nil {
			for d := range m.carriers(n.name) {
				addSystem(d, disks.SystemUse{How: disks.Started})
			}
		}
	}
}
