//go:build linux

package linux

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"zipstamp/internal/card/guard"
)

// maxUsers is how many are named; the first ones say enough.
const maxUsers = 8

// usersOf finds the programs that use the file system mounted at a point, each with the first file found. Those of
// other users are seen by root only.
func usersOf(point string) []guard.Program {
	var st unix.Stat_t
	if err := unix.Stat(point, &st); err != nil {
		return nil
	}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var all []guard.Program
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || len(all) == maxUsers {
			continue
		}
		if how, file := usesDevice(filepath.Join("/proc", e.Name()), st.Dev); how != "" {
			name, _ := os.ReadFile(filepath.Join("/proc", e.Name(), "comm")) // gone meanwhile: no name
			all = append(all, guard.Program{ID: pid, Command: strings.TrimSpace(string(name)), How: how, File: file})
		}
	}
	return all
}

// usesDevice tells how a process uses a file system, and by which file.
func usesDevice(process string, dev uint64) (how guard.How, file string) {
	on := func(link string) bool {
		var st unix.Stat_t
		return unix.Stat(filepath.Join(process, link), &st) == nil && st.Dev == dev
	}
	target := func(link string) string {
		path, _ := os.Readlink(filepath.Join(process, link)) // gone meanwhile: no path
		return path
	}
	for _, l := range []struct {
		link string
		how  guard.How
	}{{"cwd", guard.WorksIn}, {"root", guard.RootIn}, {"exe", guard.RunFrom}} {
		if on(l.link) {
			return l.how, target(l.link)
		}
	}
	fds, _ := os.ReadDir(filepath.Join(process, "fd")) // another user's: none
	for _, fd := range fds {
		if link := filepath.Join("fd", fd.Name()); on(link) {
			return guard.HasOpen, target(link)
		}
	}
	return mapsDevice(process, dev)
}

// mapsDevice looks through the files that a process has mapped into its memory.
func mapsDevice(process string, dev uint64) (how guard.How, file string) {
	f, err := os.Open(filepath.Join(process, "maps"))
	if err != nil {
		return "", ""
	}
	defer f.Close()
	want := fmt.Sprintf("%02x:%02x", unix.Major(dev), unix.Minor(dev))
	lines := bufio.NewScanner(f)
	for lines.Scan() { // address perms offset dev inode path
		if fields := strings.Fields(lines.Text()); len(fields) >= 6 && fields[3] == want {
			return guard.Mapped, strings.Join(fields[5:], " ")
		}
	}
	return "", ""
}
