//go:build linux

package linux

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"zipstamp/internal/card/disks"
	filenumber "zipstamp/internal/card/file"
	"zipstamp/internal/card/register"
	"zipstamp/internal/layout"
)

// sysfsSector is the unit of sizes in sysfs, bytes, whatever the device's sector is
// (Documentation/ABI/stable/sysfs-block, "size").
const sysfsSector = 512

// Tree is where the kernel's files are: below Root, which is "/" for this computer and something else for a copied
// tree.
type Tree struct{ Root string }

// List lists all disks with what they are used for, by name. Partitions are part of their disks.
func (t Tree) List() ([]disks.Disk, error) {
	m := machine{Tree: t, byName: map[string]*node{}}
	if err := m.readDisks(); err != nil {
		return nil, err
	}
	if err := m.readUses(); err != nil {
		return nil, err
	}
	var all []disks.Disk
	for _, d := range m.disks {
		all = append(all, *d)
	}
	return all, nil
}

// machine is a computer that is being looked at.
type machine struct {
	Tree
	disks  []*disks.Disk
	byName map[string]*node // disks and partitions
	mounts []mountpoint
}

// node is a disk or a partition in sysfs.
type node struct {
	name   string
	folder string
	number number
	disk   *disks.Disk
	below  []string // names of what it is built on
}

func (t Tree) path(parts ...string) string {
	return filepath.Join(append([]string{t.Root}, parts...)...)
}

// attribute reads a file of sysfs; "" if there is none.
func attribute(folder, name string) string {
	text, err := os.ReadFile(filepath.Join(folder, name))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

func attributeInt(folder, name string) int64 {
	n, _ := strconv.ParseInt(attribute(folder, name), 10, 64) // not there, or not a number: 0
	return n
}

func exists(folder, name string) bool {
	_, err := os.Lstat(filepath.Join(folder, name))
	return err == nil
}

// pathOf is the device node; the kernel writes a slash in a name as "!".
func pathOf(name string) string { return "/dev/" + strings.ReplaceAll(name, "!", "/") }

func (m *machine) readDisks() error {
	entries, err := os.ReadDir(m.path("sys/block"))
	if errors.Is(err, fs.ErrNotExist) {
		return errors.New("sysfs is not mounted, so the disks of this computer can't be listed")
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		folder, err := filepath.EvalSymlinks(m.path("sys/block", e.Name()))
		if err != nil {
			continue // gone meanwhile
		}
		m.readDisk(folder)
	}
	m.countSlots()
	return nil
}

func (m *machine) readDisk(folder string) {
	name := filepath.Base(folder)
	d := &disks.Disk{
		Name: strings.ReplaceAll(name, "!", "/"), Path: pathOf(name), Key: numberIn(folder).String(),
		Size: attributeInt(folder, "size") * sysfsSector, Sector: int(attributeInt(folder, "queue/logical_block_size")),
		ReadOnly: attribute(folder, "ro") == "1", Removable: attribute(folder, "removable") == "1",
		Maker: attribute(folder, "device/vendor"), Model: attribute(folder, "device/model"),
		Serial: attribute(folder, "device/serial"),
	}
	d.Bus, d.Made = busOf(folder)
	if strings.HasPrefix(d.Maker, "0x") { // a number of the bus, and no name
		d.Maker = ""
	}
	m.disks = append(m.disks, d)
	n := m.addNode(folder, d)
	n.below = names(filepath.Join(folder, "slaves"))
	readBus(d, folder)
	d.Insertion = insertion(d, attribute(folder, "diskseq"))
	d.Traffic = m.traffic(folder)
	d.Unfit = unfit(folder, d)
	u := m.udev(numberIn(folder))
	d.Scheme, d.ID, d.FS = schemes[u["ID_PART_TABLE_TYPE"]], u["ID_PART_TABLE_UUID"], u.names()
	m.readParts(folder, d)
	d.Holders = m.holders(folder, d)
}

// traffic is what the kernel has counted of a disk since it appeared (Documentation/block/stat.rst): the seventh number
// of stat has the sectors that were written, and the fourteenth, from Linux 4.18 on, those that were discarded.
func (m *machine) traffic(folder string) (t disks.Traffic) {
	fields := strings.Fields(attribute(folder, "stat"))
	boot, err := os.ReadFile(m.path("proc/sys/kernel/random/boot_id"))
	info, statErr := os.Stat(folder)
	if len(fields) < 14 || err != nil || statErr != nil {
		return t
	}
	written, err := strconv.ParseInt(fields[6], 10, 54)
	discarded, err2 := strconv.ParseInt(fields[13], 10, 54)
	if err != nil || err2 != nil || written < 0 || discarded < 0 {
		return t
	}
	t.Since = fmt.Sprintf("%s %s %d", strings.TrimSpace(string(boot)), numberIn(folder), inode(info))
	t.Written, t.Discarded = written*sysfsSector, discarded*sysfsSector
	return t
}

// inode is the number of a folder of sysfs, which the kernel gives to no other one as long as it runs.
func inode(info os.FileInfo) uint64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(st.Ino)
	}
	return 0
}

func (m *machine) addNode(folder string, d *disks.Disk) *node {
	n := &node{name: filepath.Base(folder), folder: folder, number: numberIn(folder), disk: d}
	m.byName[n.name] = n
	return n
}

func numberIn(folder string) (n number) {
	_, _ = fmt.Sscanf(attribute(folder, "dev"), "%d:%d", &n.major, &n.minor) // gone meanwhile: 0:0, which is nothing's
	return n
}

func names(folder string) (all []string) {
	entries, _ := os.ReadDir(folder) // none is none
	for _, e := range entries {
		all = append(all, e.Name())
	}
	return all
}

func (m *machine) readParts(folder string, d *disks.Disk) {
	for _, child := range names(folder) {
		sub := filepath.Join(folder, child)
		index := attribute(sub, "partition")
		if index == "" {
			continue
		}
		m.addNode(sub, d)
		p := disks.Part{
			Name: child, Path: pathOf(child), Key: numberIn(sub).String(),
			Start: attributeInt(sub, "start") * sysfsSector, Size: attributeInt(sub, "size") * sysfsSector,
			FS: m.udev(numberIn(sub)).names(),
		}
		p.Index, _ = strconv.Atoi(index)
		d.Parts = append(d.Parts, p)
	}
	slices.SortFunc(d.Parts, func(a, b disks.Part) int { return a.Index - b.Index })
}

// busOf tells how a disk is reached from its place among the devices, and what it is made of if it is made by software.
func busOf(folder string) (bus disks.Bus, made disks.Made) {
	name := filepath.Base(folder)
	has := func(part string) bool { return strings.Contains(folder, part) }
	starts := func(prefixes ...string) bool {
		return slices.ContainsFunc(prefixes, func(p string) bool { return strings.HasPrefix(name, p) })
	}
	switch {
	case exists(folder, "dm"):
		return disks.Volume, volume(folder)
	case exists(folder, "md"):
		return disks.Volume, disks.RAID
	case starts("bcache"):
		return disks.Volume, disks.Bcache
	case starts("zd"):
		return disks.Volume, disks.ZFSVolume
	case exists(folder, "loop") || starts("loop"):
		return disks.Loop, ""
	case starts("zram", "ram", "pmem"):
		return disks.Memory, disks.InMemory
	case starts("nbd", "rbd", "drbd") || has("/session") || has("/nvme-fabrics/"):
		return disks.Network, ""
	case has("/mmc_host/") || starts("mmcblk"):
		if kind := attribute(folder, "device/type"); kind == "SD" || kind == "SDcombo" {
			return disks.SDSlot, ""
		}
		return disks.EMMC, ""
	case has("/usb"):
		return disks.USB, ""
	case has("/nvme") || starts("nvme"):
		return disks.NVMe, ""
	case has("/ata"):
		return disks.SATA, ""
	case has("/fw"):
		return disks.FireWire, ""
	case has("/virtio") || starts("vd", "xvd"):
		return disks.Machine, ""
	case starts("sd", "sr"):
		return disks.SCSI, ""
	}
	return disks.Other, ""
}

// volume says what kind of volume the device mapper has made.
func volume(folder string) disks.Made {
	switch id := attribute(folder, "dm/uuid"); {
	case strings.HasPrefix(id, "CRYPT-"):
		return disks.Encrypted
	case strings.HasPrefix(id, "LVM-"):
		return disks.LVM
	case strings.HasPrefix(id, "mpath-"):
		return disks.Multipath
	}
	return disks.Mapped
}

// readBus adds what the device on the bus says.
func readBus(d *disks.Disk, folder string) {
	switch d.Bus {
	case disks.SDSlot, disks.EMMC:
		if name := attribute(folder, "device/name"); name != "" {
			d.Model = name
		}
		if d.Bus == disks.SDSlot {
			if s, ok := register.Read(func(name string) string { return attribute(folder, "device/"+name) }); ok {
				d.SD = &s
			}
		}
	case disks.USB:
		readUSB(d, folder)
	case disks.Volume:
		d.Model = attribute(folder, "dm/name")
	case disks.Loop:
		if file := attribute(folder, "loop/backing_file"); file != "" {
			d.Backing, d.Number, d.Model = file, filenumber.Number(file), "loop device on "+file
		}
	}
}

// readUSB looks for the USB device in the folders above.
func readUSB(d *disks.Disk, folder string) {
	for up := filepath.Dir(folder); strings.Contains(up, "/usb"); up = filepath.Dir(up) {
		if !exists(up, "idVendor") {
			continue
		}
		d.USB = &disks.USBDevice{
			Port: filepath.Base(up), Vendor: attribute(up, "idVendor"), Product: attribute(up, "idProduct"),
			Manufacturer: attribute(up, "manufacturer"), Name: attribute(up, "product"),
			Serial: attribute(up, "serial"), Speed: int(attributeInt(up, "speed")),
		}
		if d.Serial == "" {
			d.Serial = d.USB.Serial
		}
		if d.Maker == "" && d.Model == "" {
			d.Maker, d.Model = d.USB.Manufacturer, d.USB.Name
		}
		return
	}
}

// insertion is what differs each time that a disk or a medium is put in: the kernel's number of it, which counts every
// one since the start (since Linux 5.15), and what the disk and its place say of themselves, for older kernels.
func insertion(d *disks.Disk, sequence string) string {
	port := ""
	if d.USB != nil {
		port = d.USB.Port
	}
	return fmt.Sprintf("%s %s %d %q %q %q", cmp.Or(sequence, "0"), d.Key, d.Slot, d.Serial, d.CID(), port)
}

// sequenceIn is the kernel's number in an insertion; 0 where it has none.
func sequenceIn(insertion string) uint64 {
	text, _, _ := strings.Cut(insertion, " ")
	n, _ := strconv.ParseUint(text, 10, 64) // it was written here
	return n
}

// schemes are partition tables as udev names them.
var schemes = map[string]layout.Scheme{"gpt": layout.SchemeGPT, "dos": layout.SchemeMBR}

// SCSI device types (SPC-6, table "Peripheral device type") that are no disks.
var scsiTypes = map[string]disks.Unfit{
	"1": disks.Tape, "4": disks.Optical, "5": disks.Optical, "7": disks.Optical, "13": disks.Enclosure,
}

func unfit(folder string, d *disks.Disk) disks.Unfit {
	switch {
	case strings.Contains(d.Name, "boot") && strings.HasPrefix(d.Name, "mmcblk"), strings.HasSuffix(d.Name, "rpmb"):
		return disks.BootArea
	case strings.HasPrefix(d.Name, "sr"):
		return disks.Optical
	case strings.HasPrefix(d.Name, "fd"):
		return disks.Floppy
	}
	if d.Bus == disks.EMMC {
		return ""
	}
	return scsiTypes[attribute(folder, "device/type")]
}

// countSlots numbers the slots of readers with several: they are one device on the USB, with a logical unit each.
func (m *machine) countSlots() {
	byReader := map[string][]*disks.Disk{}
	for _, d := range m.disks {
		if d.USB != nil && d.Unfit == "" {
			byReader[d.USB.Port] = append(byReader[d.USB.Port], d)
		}
	}
	for _, units := range byReader {
		if len(units) < 2 {
			continue
		}
		for _, d := range units {
			scsi := filepath.Base(filepath.Dir(filepath.Dir(m.byName[filepath.Base(d.Path)].folder))) // 4:0:0:2
			unit, _ := strconv.Atoi(scsi[strings.LastIndex(scsi, ":")+1:])
			d.Slot, d.Slots = unit+1, len(units)
		}
	}
}

// holders lists what is built on a disk or its partitions and in use.
func (m *machine) holders(folder string, d *disks.Disk) (all []disks.Holder) {
	places := []string{folder}
	for _, p := range d.Parts {
		places = append(places, filepath.Join(folder, p.Name))
	}
	for _, place := range places {
		for _, name := range names(filepath.Join(place, "holders")) {
			if h := holder(m.path("sys/block", name), name); !slices.Contains(all, h) {
				all = append(all, h)
			}
		}
	}
	for _, p := range d.Parts {
		if pool := p.FS.Label; p.FS.Kind == layout.ZFSKind && exists(m.path("proc/spl/kstat/zfs"), pool) && pool != "" {
			all = append(all, disks.Holder{Made: disks.ZFSPool, Name: pool})
		}
	}
	return all
}

// holder names what is built on a disk.
func holder(folder, name string) disks.Holder {
	_, made := busOf(folder)
	return disks.Holder{Made: made, Name: name, Title: attribute(folder, "dm/name")}
}
