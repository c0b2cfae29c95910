//go:build linux

package main

import (
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// paced is a loop device that the kernel slows for those who are in a control group (blkio.throttle, version 1).
type paced struct {
	b           *bench
	name, group string
}

// newPaced attaches a file.
func (b *bench) newPaced(file string) (*paced, error) {
	out, err := b.shell("losetup --direct-io=on --show -f " + file)
	if err != nil {
		return nil, err
	}
	p := &paced{b: b, name: strings.TrimSpace(out), group: "/sys/fs/cgroup/blkio/zipstamp-bench"}
	if err := os.MkdirAll(p.group, 0o755); err != nil {
		return nil, err
	}
	number, err := os.ReadFile(filepath.Join("/sys/class/block", filepath.Base(p.name), "dev"))
	if err != nil {
		return nil, err
	}
	for limit, rate := range map[string]int{"write": writeRate, "read": readRate} {
		rule := fmt.Sprintf("%s %d", strings.TrimSpace(string(number)), rate*1_000_000)
		if err := os.WriteFile(p.group+"/blkio.throttle."+limit+"_bps_device", []byte(rule), 0); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// command is a command that the limits hold for.
func (p *paced) command(name string, args ...string) *exec.Cmd {
	return exec.Command("sh", append([]string{
		"-c", "echo $$ > " + p.group + "/cgroup.procs; exec \"$0\" \"$@\"", name,
	}, args...)...)
}

func (p *paced) Close() {
	if _, err := p.b.shell("losetup -d " + p.name); err != nil {
		log.Print(err)
	}
	if err := os.Remove(p.group); err != nil {
		log.Print(err)
	}
}
