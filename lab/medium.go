//go:build linux

package lab

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// Medium is a card or a stick. Rates are in bytes a second; 0 is no limit.
type Medium struct {
	File          string // a raw image
	Locked        bool   // write-protected; sticks only
	Away          bool   // not plugged in at the start
	Maker, Model  string // of a stick
	Serial        string // of a stick; none: LAB and its number
	Reads, Writes int64
	Sector        int   // of a stick; none: 512
	Fixed         bool  // a disk that says that it isn't removable
	FailAt        int64 // of a stick: writes to this sector of 512 bytes fail; 0: none
	FailTimes     int   // the first so many. The kernel tries 6 times before it tells anybody
	id            string
}

// isSD tells cards in the SD slot from sticks.
func (m *Medium) isSD() bool { return strings.HasPrefix(m.id, "sd") }

// arguments are QEMU's for this medium.
func (m *Medium) arguments() (args []string) {
	args = append(args, "-object", text(object{
		"qom-type": "throttle-group", "id": "pace-" + m.id, "limits": m.limits(),
	}))
	node := m.id + "-file"
	args = append(args, "-blockdev", text(object{
		"driver": "file", "node-name": node, "filename": m.File, "read-only": m.Locked, "discard": "unmap",
		"cache": object{"direct": false, "no-flush": true},
	}))
	if m.FailAt > 0 {
		failure := object{"event": "none", "iotype": "write", "sector": m.FailAt, "errno": 5, "once": true}
		args = append(args, "-blockdev", text(object{
			"driver": "blkdebug", "node-name": m.id + "-bad", "image": node,
			"inject-error": slices.Repeat([]object{failure}, m.FailTimes),
		}))
		node = m.id + "-bad"
	}
	args = append(args, "-blockdev",
		text(object{
			"driver": "throttle", "node-name": m.id, "throttle-group": "pace-" + m.id, "file": node,
			"read-only": m.Locked,
		}))
	if m.Away && !m.isSD() {
		return args
	}
	for _, d := range m.devices() {
		args = append(args, "-device", text(d))
	}
	return args
}

func (m *Medium) limits() object {
	return object{"bps-read": m.Reads, "bps-write": m.Writes}
}

// devices are what the guest sees: the slot or port first.
func (m *Medium) devices() []object {
	if m.isSD() {
		return []object{{"driver": "sdhci-pci", "id": m.id + "-slot"}, {"driver": "sd-card", "id": m.id, "drive": m.id}}
	}
	serial := m.Serial
	if serial == "" {
		serial = "LAB-" + strings.ToUpper(m.id)
	}
	disk := object{
		"driver": "scsi-hd", "id": m.id, "drive": m.id, "bus": m.id + "-port.0", "scsi-id": 0, "lun": 0,
		"serial": serial, "removable": !m.Fixed, "werror": "report", "rerror": "report",
	}
	for name, value := range map[string]string{"vendor": m.Maker, "product": m.Model} {
		if value != "" {
			disk[name] = value
		}
	}
	if m.Sector > 0 {
		disk["logical_block_size"], disk["physical_block_size"] = m.Sector, m.Sector
	}
	return []object{{"driver": "usb-bot", "id": m.id + "-port", "bus": "xhci.0", "serial": serial}, disk}
}

// Pull pulls a card out of its slot, or a stick out of its port, whatever is being written.
func (g *Guest) Pull(ctx context.Context, m *Medium) error {
	if m.isSD() {
		_, _ = g.qmp.do("blockdev-open-tray", object{"id": m.id, "force": true}) // a slot has no tray
		_, err := g.qmp.do("blockdev-remove-medium", object{"id": m.id})
		return err
	}
	gone := g.qmp.expect("DEVICE_DELETED", m.id+"-port")
	if _, err := g.qmp.do("device_del", object{"id": m.id + "-port"}); err != nil {
		return err
	}
	select {
	case <-gone:
		return nil
	case <-ctx.Done():
		return fmt.Errorf("%s is not gone: %w", m.id, context.Cause(ctx))
	}
}

// Insert puts it in again.
func (g *Guest) Insert(m *Medium) error {
	if m.isSD() {
		if _, err := g.qmp.do("blockdev-insert-medium", object{"id": m.id, "node-name": m.id}); err != nil {
			return err
		}
		_, _ = g.qmp.do("blockdev-close-tray", object{"id": m.id})
		return nil
	}
	for _, d := range m.devices() {
		if _, err := g.qmp.do("device_add", d); err != nil {
			return err
		}
	}
	_, err := g.qmp.do("qom-set", object{
		"path": "/machine/peripheral/" + m.id + "-port", "property": "attached", "value": true,
	})
	return err
}

// Load closes the tray of a stick whose medium the guest has ejected.
func (g *Guest) Load(m *Medium) error {
	_, err := g.qmp.do("blockdev-close-tray", object{"id": m.id})
	return err
}
