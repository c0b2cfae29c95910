//go:build linux

package linux

import (
	"bufio"
	"cmp"
	"os"
	"strconv"
	"strings"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/layout"
)

// properties are udev's of a device. There may be none: not every system has udev.
type properties map[string]string

func (t Tree) udev(n number) properties {
	f, err := os.Open(t.path("run/udev/data", "b"+n.String()))
	if err != nil {
		return nil
	}
	defer f.Close()
	p := properties{}
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		if line, ok := strings.CutPrefix(lines.Text(), "E:"); ok {
			name, value, _ := strings.Cut(line, "=")
			p[name] = value
		}
	}
	return p
}

// fsKinds are file systems as udev names them, where layout names them otherwise. Of a FAT udev says the size of its
// entries apart.
var fsKinds = map[string]layout.FSKind{
	"vfat": layout.FATKind, "exfat": layout.ExFATKind, "ntfs": layout.NTFSKind, "iso9660": layout.ISOKind,
	"crypto_LUKS": layout.LUKSKind, "BitLocker": layout.BitLocker, "LVM2_member": layout.LVMKind,
	"linux_raid_member": layout.RAIDKind,
	"zfs_member":        layout.ZFSKind,
}

func (p properties) names() disks.FileSystem {
	n := disks.FileSystem{
		Kind: cmp.Or(fsKinds[p["ID_FS_TYPE"]], layout.FSKind(p["ID_FS_TYPE"])), Label: unescape(p["ID_FS_LABEL_ENC"]),
		PartName: unescape(p["ID_PART_ENTRY_NAME"]),
	}
	if n.Label == "" {
		n.Label = p["ID_FS_LABEL"]
	}
	return n
}

// unescape undoes udev's escapes: \x20 is a space.
func unescape(s string) string {
	var b strings.Builder
	for {
		at := strings.Index(s, `\x`)
		if at < 0 || at+4 > len(s) {
			return b.String() + s
		}
		b.WriteString(s[:at])
		if c, err := strconv.ParseUint(s[at+2:at+4], 16, 8); err == nil {
			b.WriteByte(byte(c))
		} else {
			b.WriteString(s[at : at+4])
		}
		s = s[at+4:]
	}
}
