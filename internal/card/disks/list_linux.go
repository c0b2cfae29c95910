package disks

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"zipstamp/internal/card/register"
)

// sysfsSector is the unit of sizes in sysfs, bytes, whatever the device's sector is
// (Documentation/ABI/stable/sysfs-block, "size").
const sysfsSector = 512

// Tree is where the kernel's files are: below Root, which is "/" for this computer and something else for a copied tree.
type Tree struct{ Root string }

// List lists all disks with what they are used for, by name. Partitions are part of their disks.
func (t Tree) List() ([]Disk, error) {
	m := machine{Tree: t, byName: map[string]*node{}}
	if err := m.readDisks(); err != nil {
		return nil, err
	}
	if err := m.readUses(); err != nil {
		return nil, err
	}
	var all []Disk
	for _, d := range m.disks {
		all = append(all, *d)
	}
	return all, nil
}

// machine is a computer that is being looked at.
type machine struct {
	Tree
	disks  []*Disk
	byName map[string]*node // disks and partitions
	mounts []mountpoint
}

// node is a disk or a partition in sysfs.
type node struct {
	name   string
	folder string
	number Number
	disk   *Disk
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
	d := &Disk{
		Name: strings.ReplaceAll(name, "!", "/"), Path: pathOf(name), Number: numberIn(folder), Size: attributeInt(folder, "size") * sysfsSector,
		Sector: int(attributeInt(folder, "queue/logical_block_size")), ReadOnly: attribute(folder, "ro") == "1", Removable: attribute(folder, "removable") == "1",
		Maker: attribute(folder, "device/vendor"), Model: attribute(folder, "device/model"), Serial: attribute(folder, "device/serial"),
	}
	d.Seq, _ = strconv.ParseUint(attribute(folder, "diskseq"), 10, 64)
	d.Bus, d.Made = busOf(folder)
	if strings.HasPrefix(d.Maker, "0x") { // a number of the bus, and no name
		d.Maker = ""
	}
	m.disks = append(m.disks, d)
	n := m.addNode(folder, d)
	n.below = names(filepath.Join(folder, "slaves"))
	d.readBus(folder)
	d.Unfit = unfit(folder, d)
	u := m.udev(d.Number)
	d.Scheme, d.ID, d.FS = u["ID_PART_TABLE_TYPE"], u["ID_PART_TABLE_UUID"], u.names()
	m.readParts(folder, d)
	d.Holders = m.holders(folder, d)
}

func (m *machine) addNode(folder string, d *Disk) *node {
	n := &node{name: filepath.Base(folder), folder: folder, number: numberIn(folder), disk: d}
	m.byName[n.name] = n
	return n
}

func numberIn(folder string) (n Number) {
	_, _ = fmt.Sscanf(attribute(folder, "dev"), "%d:%d", &n.Major, &n.Minor) // gone meanwhile: 0:0, which is nothing's
	return n
}

func names(folder string) (all []string) {
	entries, _ := os.ReadDir(folder) // none is none
	for _, e := range entries {
		all = append(all, e.Name())
	}
	return all
}

func (m *machine) readParts(folder string, d *Disk) {
	for _, child := range names(folder) {
		sub := filepath.Join(folder, child)
		index := attribute(sub, "partition")
		if index == "" {
			continue
		}
		m.addNode(sub, d)
		p := Part{
			Name: child, Path: pathOf(child), Number: numberIn(sub), Start: attributeInt(sub, "start") * sysfsSector, Size: attributeInt(sub, "size") * sysfsSector,
			FS: m.udev(numberIn(sub)).names(),
		}
		p.Index, _ = strconv.Atoi(index)
		d.Parts = append(d.Parts, p)
	}
	slices.SortFunc(d.Parts, func(a, b Part) int { return a.Index - b.Index })
}

// busOf tells how a disk is reached from its place among the devices, and what it is made of if it is made by software.
func busOf(folder string) (bus Bus, made string) {
	name := filepath.Base(folder)
	has := func(part string) bool { return strings.Contains(folder, part) }
	starts := func(prefixes ...string) bool {
		return slices.ContainsFunc(prefixes, func(p string) bool { return strings.HasPrefix(name, p) })
	}
	switch {
	case exists(folder, "dm"):
		return Volume, volume(folder)
	case exists(folder, "md"):
		return Volume, "a RAID array"
	case starts("bcache"):
		return Volume, "a volume of bcache"
	case starts("zd"):
		return Volume, "a volume of ZFS"
	case exists(folder, "loop") || starts("loop"):
		return Loop, ""
	case starts("zram", "ram", "pmem"):
		return Memory, "a disk in this computer's memory"
	case starts("nbd", "rbd", "drbd") || has("/session") || has("/nvme-fabrics/"):
		return Network, ""
	case has("/mmc_host/") || starts("mmcblk"):
		if kind := attribute(folder, "device/type"); kind == "SD" || kind == "SDcombo" {
			return SDSlot, ""
		}
		return EMMC, ""
	case has("/usb"):
		return USB, ""
	case has("/nvme") || starts("nvme"):
		return NVMe, ""
	case has("/ata"):
		return SATA, ""
	case has("/fw"):
		return FireWire, ""
	case has("/virtio") || starts("vd", "xvd"):
		return Machine, ""
	case starts("sd", "sr"):
		return SCSI, ""
	}
	return Other, ""
}

// volume says what kind of volume the device mapper has made.
func volume(folder string) string {
	switch id := attribute(folder, "dm/uuid"); {
	case strings.HasPrefix(id, "CRYPT-"):
		return "an encrypted volume"
	case strings.HasPrefix(id, "LVM-"):
		return "an LVM volume"
	case strings.HasPrefix(id, "mpath-"):
		return "one way of several to another disk"
	}
	return "a volume of the device mapper"
}

// readBus adds what the device on the bus says.
func (d *Disk) readBus(folder string) {
	switch d.Bus {
	case SDSlot, EMMC:
		if name := attribute(folder, "device/name"); name != "" {
			d.Model = name
		}
		if d.Bus == SDSlot {
			if s, ok := register.Read(func(name string) string { return attribute(folder, "device/"+name) }); ok {
				d.SD = &s
			}
		}
	case USB:
		d.readUSB(folder)
	case Volume:
		d.Model = attribute(folder, "dm/name")
	case Loop:
		if file := attribute(folder, "loop/backing_file"); file != "" {
			d.Backing, d.Model = file, "loop device on "+file
		}
	}
}

// readUSB looks for the USB device in the folders above.
func (d *Disk) readUSB(folder string) {
	for up := filepath.Dir(folder); strings.Contains(up, "/usb"); up = filepath.Dir(up) {
		if !exists(up, "idVendor") {
			continue
		}
		d.USB = &USBDevice{
			Folder: up, Port: filepath.Base(up), Vendor: attribute(up, "idVendor"), Product: attribute(up, "idProduct"),
			Manufacturer: attribute(up, "manufacturer"), Name: attribute(up, "product"), Serial: attribute(up, "serial"), Speed: int(attributeInt(up, "speed")),
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

// SCSI device types (SPC-6, table "Peripheral device type") that are no disks, in words.
var scsiTypes = map[string]string{"1": "a tape drive", "4": "an optical drive", "5": "an optical drive", "7": "an optical drive", "13": "an enclosure"}

func unfit(folder string, d *Disk) string {
	switch {
	case strings.Contains(d.Name, "boot") && strings.HasPrefix(d.Name, "mmcblk"), strings.HasSuffix(d.Name, "rpmb"):
		return "a boot area of the eMMC"
	case strings.HasPrefix(d.Name, "sr"):
		return "an optical drive"
	case strings.HasPrefix(d.Name, "fd"):
		return "a floppy drive"
	}
	if d.Bus == EMMC {
		return ""
	}
	return scsiTypes[attribute(folder, "device/type")]
}

// countSlots numbers the slots of readers with several: they are one device on the USB, with a logical unit each.
func (m *machine) countSlots() {
	byReader := map[string][]*Disk{}
	for _, d := range m.disks {
		if d.USB != nil && d.Unfit == "" {
			byReader[d.USB.Folder] = append(byReader[d.USB.Folder], d)
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
func (m *machine) holders(folder string, d *Disk) (all []string) {
	places := []string{folder}
	for _, p := range d.Parts {
		places = append(places, filepath.Join(folder, p.Name))
	}
	for _, place := range places {
		for _, name := range names(filepath.Join(place, "holders")) {
			if text := holder(m.path("sys/block", name), name); !slices.Contains(all, text) {
				all = append(all, text)
			}
		}
	}
	for _, p := range d.Parts {
		if pool := p.FS.Label; p.FS.Kind == "zfs_member" && exists(m.path("proc/spl/kstat/zfs"), pool) && pool != "" {
			all = append(all, "the ZFS pool "+pool)
		}
	}
	return all
}

// holder names what is built on a disk.
func holder(folder, name string) string {
	if _, made := busOf(folder); made != "" {
		title := name
		if dm := attribute(folder, "dm/name"); dm != "" {
			title = fmt.Sprintf("%s (%s)", dm, name)
		}
		if kind, ok := strings.CutPrefix(made, "an "); ok {
			return "the " + kind + " " + title
		}
		kind, _ := strings.CutPrefix(made, "a ")
		return "the " + kind + " " + title
	}
	return name
}
