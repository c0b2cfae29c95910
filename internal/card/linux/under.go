//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"slices"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"

	"zipstamp/internal/card"
)

// File systems of other computers, and those that are in memory or made by the kernel, as mountinfo has them.
var (
	networkKinds = []string{
		"nfs", "nfs4", "cifs", "smb3", "smbfs", "9p", "ceph", "afs", "glusterfs", "fuse.sshfs", "fuse.rclone",
		"virtiofs",
	}
	memoryKinds = []string{"tmpfs", "ramfs", "devtmpfs", "proc", "sysfs", "devpts", "cgroup2", "squashfs"}
)

// Under finds the mount that a file is on, or will be: of a path that isn't there, its nearest folder that is.
func (Host) Under(path string) (card.Standing, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return card.Standing{}, err
	}
	for {
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real
			break
		}
		parent := filepath.Dir(path)
		if parent == path {
			break
		}
		path = parent
	}
	mounts, err := mountinfo.GetMounts(mountinfo.ParentsFilter(path))
	if err != nil || len(mounts) == 0 {
		return card.Standing{}, err
	}
	at := slices.MaxFunc(mounts, func(a, b *mountinfo.Info) int { return len(a.Mountpoint) - len(b.Mountpoint) })
	standing := standingOf(at.FSType)
	standing.Point, standing.Present = at.Mountpoint, presence(path)
	return standing, nil
}

// standingOf is what the kind of a file system says.
func standingOf(kind string) card.Standing {
	return card.Standing{
		Kind: kind, Network: slices.Contains(networkKinds, kind), NoDisk: slices.Contains(memoryKinds, kind),
	}
}

// presence tells whether the disk that a file is on is still there. nil where the file system has a number of its own.
func presence(path string) func() bool {
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil {
		return nil
	}
	folder := kernelFolder(numberOf(st.Dev))
	there := func() bool {
		_, err := os.Stat(folder)
		return !os.IsNotExist(err)
	}
	if !there() {
		return nil
	}
	return there
}
