package card

import (
	"path/filepath"
	"slices"

	"github.com/moby/sys/mountinfo"
)

// Under tells on which file system a folder is, and on which disk that is; nil where it is on none that the computer knows.
func Under(folder string) (c *Card, kind string, err error) {
	path, err := filepath.EvalSymlinks(folder)
	if err == nil {
		path, err = filepath.Abs(path)
	}
	if err != nil {
		return nil, "", err
	}
	mounts, err := mountinfo.GetMounts(mountinfo.ParentsFilter(path))
	if err != nil || len(mounts) == 0 {
		return nil, "", err
	}
	at := slices.MaxFunc(mounts, func(a, b *mountinfo.Info) int { return len(a.Mountpoint) - len(b.Mountpoint) })
	all, err := All()
	if err != nil {
		return nil, at.FSType, nil // a computer without disks that can be listed
	}
	for _, one := range all {
		for _, m := range one.Disk.Mounts {
			if m.Point == at.Mountpoint {
				return one, at.FSType, nil
			}
		}
	}
	return nil, at.FSType, nil
}
