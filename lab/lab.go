//go:build linux

// Package lab starts small machines in QEMU with emulated memory cards and sticks, for tests that need a real SD slot
// or a real USB port: one where cards come and go, are locked, are slow, or fail. README.md says what it needs. It is
// used by tests and measurements, and is no part of the program.
package lab

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Machine says what a machine has.
type Machine struct {
	Kit    *Kit
	SD     *Medium   // in the SD slot, /dev/mmcblk0; its size is a power of two. There is a slot only if this is set
	USB    []*Medium // sticks, /dev/sda and so on
	Share  string    // a folder of this computer, /share in the guest
	Put    map[string]string
	Cores  int
	Memory int // MiB; 0: 640
}

// Guest is a machine that runs.
type Guest struct {
	dir   string
	cmd   *exec.Cmd
	ended chan struct{}
	said  bytes.Buffer // by QEMU
	ports map[string]net.Listener
	conns []net.Conn
	qmp   *qmp
	work  net.Conn
	out   *output
}

// usualMemory of a guest, MiB.
const usualMemory = 640

// startTime bounds how long a machine may take until it is ready; without hardware support it takes some 6 seconds.
const startTime = 5 * time.Minute

// Start starts a machine, and returns when it takes scripts.
func (m Machine) Start(ctx context.Context) (*Guest, error) {
	g, err := m.start()
	if err != nil {
		return nil, err
	}
	err = g.connect(ctx)
	if err != nil {
		err = fmt.Errorf("%w\nQEMU said: %s\nconsole: %s", err, g.said.String(), g.console())
		g.Stop()
		return nil, err
	}
	return g, nil
}

func (m Machine) start() (*Guest, error) {
	dir, err := os.MkdirTemp("", "lab-")
	if err != nil {
		return nil, err
	}
	g := &Guest{dir: dir, ended: make(chan struct{}), ports: map[string]net.Listener{}}
	args, err := m.arguments(g)
	if err == nil {
		err = g.launch(args)
	}
	if err != nil {
		g.cleanUp()
		return nil, err
	}
	return g, nil
}

// kernelLine has what saves time without hardware support.
const kernelLine = "console=ttyS0,115200 panic=-1 mitigations=off nokaslr audit=0 selinux=0 apparmor=0 " +
	"random.trust_cpu=on " +
	"no_timer_check tsc=reliable cryptomgr.notests raid=noautodetect net.ifnames=0 pcie_aspm=off quiet"

// arguments are QEMU's.
func (m Machine) arguments(g *Guest) ([]string, error) {
	modules := []string{"virtio_pci", "virtio_console"}
	args := board(max(m.Cores, 1), cmp.Or(m.Memory, usualMemory))
	add := func(a ...string) { args = append(args, a...) }
	qmpPath, err := g.listen("qmp")
	if err != nil {
		return nil, err
	}
	add("-chardev", "socket,id=qmp,path="+qmpPath, "-mon", "chardev=qmp,mode=control")
	if m.SD != nil {
		modules = append(modules, "sdhci-pci", "mmc_block")
		m.SD.id = "sd0"
		add(m.SD.arguments()...)
	}
	if len(m.USB) > 0 {
		modules = append(modules, "sd_mod", "usb-storage", "xhci-pci")
		add("-device", "qemu-xhci,id=xhci,p2=8,p3=8")
	}
	for i, u := range m.USB {
		u.id = "usb" + strconv.Itoa(i)
		add(u.arguments()...)
	}
	add("-device", "virtio-serial-pci")
	for i, name := range []string{"work", "said"} {
		path, err := g.listen(name)
		if err != nil {
			return nil, err
		}
		add("-chardev", "socket,id="+name+",path="+path, "-device",
			fmt.Sprintf("virtserialport,chardev=%s,name=%s,nr=%d", name, name, i+1))
	}
	if m.Share != "" {
		modules = append(modules, "9pnet_virtio", "9p")
		add("-virtfs", "local,path="+m.Share+",mount_tag=share,security_model=none,multidevs=remap")
	}
	modules = append(modules, "nls_cp437", "nls_ascii", "vfat", "ext4", "loop")
	var files archive
	files.add("lab/settings", fmt.Appendf(nil, "modules='%s'\nshare='%s'\n", strings.Join(modules, " "), m.Share),
		0o644)
	for to, from := range m.Put {
		text, err := os.ReadFile(from)
		if err != nil {
			return nil, err
		}
		files.add(strings.TrimPrefix(to, "/"), text, 0o755)
	}
	start, err := os.ReadFile(m.Kit.path("initrd"))
	if err != nil {
		return nil, err
	}
	initrd := filepath.Join(g.dir, "initrd")
	if err := os.WriteFile(initrd, append(start, files.finish()...), 0o600); err != nil {
		return nil, err
	}
	add("-chardev", "file,id=console,path="+filepath.Join(g.dir, "console"), "-serial", "chardev:console")
	add("-kernel", m.Kit.path("vmlinux"), "-initrd", initrd, "-append", kernelLine)
	return args, nil
}

// board is what every machine has.
func board(cores, memory int) []string {
	accelerator, processor := "tcg,thread=multi", "max"
	if f, err := os.OpenFile("/dev/kvm", os.O_RDWR, 0); err == nil && os.Getenv("LAB_KVM") != "" {
		f.Close()
		accelerator, processor = "kvm", "host"
	}
	return []string{
		"-accel", accelerator, "-cpu", processor, "-M", "q35,usb=off,vmport=off,smbus=off,sata=off", "-smp",
		strconv.Itoa(cores), "-m", strconv.Itoa(memory), "-nodefaults", "-no-user-config", "-display", "none",
		"-no-reboot", "-S", "-rtc", "base=utc",
	}
}

// listen makes a socket for QEMU to connect to.
func (g *Guest) listen(name string) (path string, err error) {
	path = filepath.Join(g.dir, name+".socket")
	g.ports[name], err = net.Listen("unix", path)
	return path, err
}

func (g *Guest) launch(args []string) error { return g.launchWith(args, &g.said) }

func (g *Guest) launchWith(args []string, out io.Writer) error {
	g.cmd = exec.Command("qemu-system-x86_64", args...)
	g.cmd.Stdout, g.cmd.Stderr = out, &g.said
	g.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := g.cmd.Start(); err != nil {
		return err
	}
	go func() { // ends with QEMU, which Stop sees to
		_ = g.cmd.Wait()
		close(g.ended)
	}()
	return nil
}

// accept waits for QEMU to connect.
func (g *Guest) accept(ctx context.Context, name string) (net.Conn, error) {
	stop := context.AfterFunc(ctx, func() { g.ports[name].Close() })
	defer stop()
	go func() {
		select {
		case <-g.ended:
			g.ports[name].Close()
		case <-ctx.Done():
		}
	}()
	c, err := g.ports[name].Accept()
	if err != nil {
		return nil, errors.New("QEMU didn't start")
	}
	g.conns = append(g.conns, c)
	return c, nil
}

func (g *Guest) connect(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startTime)
	defer cancel()
	if err := g.control(ctx); err != nil {
		return err
	}
	work, err := g.accept(ctx, "work")
	if err != nil {
		return err
	}
	said, err := g.accept(ctx, "said")
	if err != nil {
		return err
	}
	g.work, g.out = work, newOutput(said)
	if err := work.SetReadDeadline(time.Now().Add(startTime)); err != nil {
		return err
	}
	line := make([]byte, len("ready\n"))
	if _, err := work.Read(line); err != nil {
		return fmt.Errorf("the guest is not ready: %w", err)
	}
	return nil
}

// control connects to QEMU's own socket, and lets the processor run.
func (g *Guest) control(ctx context.Context) error {
	c, err := g.accept(ctx, "qmp")
	if err != nil {
		return err
	}
	g.qmp = newQMP(c)
	for _, command := range []string{"qmp_capabilities", "cont"} {
		if _, err := g.qmp.do(command, nil); err != nil {
			return err
		}
	}
	return nil
}

// console is what the guest's kernel said last.
func (g *Guest) console() string {
	text, _ := os.ReadFile(filepath.Join(g.dir, "console")) // there is none before the kernel starts
	return string(text[max(0, len(text)-2000):])
}

// Stop cuts the power.
func (g *Guest) Stop() {
	if g.cmd != nil && g.cmd.Process != nil {
		_ = g.cmd.Process.Kill()
		<-g.ended
	}
	g.cleanUp()
}

func (g *Guest) cleanUp() {
	for _, c := range g.conns {
		c.Close()
	}
	for _, l := range g.ports {
		if l != nil {
			l.Close()
		}
	}
	os.RemoveAll(g.dir)
}

// Work is a script that runs in the guest.
type Work struct {
	g    *Guest
	from int // where its output begins
}

// Begin sends a script to the guest's shell. One runs at a time.
func (g *Guest) Begin(script string) (*Work, error) {
	w := &Work{g, g.out.length()}
	_, err := fmt.Fprintf(g.work, "%d\n%s", len(script), script)
	return w, err
}

// Saw waits until the script has said a text, which is not given in pieces of lines.
func (w *Work) Saw(ctx context.Context, text string) error {
	_, err := w.g.out.await(ctx, func(all []byte) bool { return bytes.Contains(all[w.from:], []byte(text)) })
	if err != nil {
		return fmt.Errorf("the guest never said %q: %w\n%s", text, err, w.g.out.since(w.from))
	}
	return nil
}

// endMark is what stands before the status of a script.
const endMark = "\n\x01ended "

// End waits for the script's end, and returns its exit status and all that it said.
func (w *Work) End(ctx context.Context) (status int, said string, err error) {
	all, err := w.g.out.await(ctx, func(all []byte) bool {
		at := bytes.Index(all[w.from:], []byte(endMark))
		return at >= 0 && bytes.Contains(all[w.from+at:], []byte("\x02\n"))
	})
	if err != nil {
		return 0, "", fmt.Errorf("the script doesn't end: %w\n%s\nconsole: %s", err, w.g.out.since(w.from),
			w.g.console())
	}
	said, rest, _ := strings.Cut(string(all[w.from:]), endMark)
	number, _, _ := strings.Cut(rest, "\x02")
	status, err = strconv.Atoi(number)
	return status, said, err
}

// Run runs a script to its end.
func (g *Guest) Run(ctx context.Context, script string) (status int, said string, err error) {
	w, err := g.Begin(script)
	if err != nil {
		return 0, "", err
	}
	return w.End(ctx)
}

// output collects what the guest says.
type output struct {
	mu    sync.Mutex
	all   []byte
	ended bool
	more  chan struct{} // closed when there is more
}

func newOutput(c net.Conn) *output {
	o := &output{more: make(chan struct{})}
	go func() { // ends when the connection is closed
		buf := make([]byte, 64<<10)
		for {
			n, err := c.Read(buf)
			o.mu.Lock()
			o.all = append(o.all, buf[:n]...)
			o.ended = err != nil
			close(o.more)
			o.more = make(chan struct{})
			o.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return o
}

func (o *output) length() int {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.all)
}

func (o *output) since(from int) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return string(o.all[from:])
}

// await waits until all that was said passes a test.
func (o *output) await(ctx context.Context, test func(all []byte) bool) ([]byte, error) {
	for {
		o.mu.Lock()
		all, more, ended := o.all, o.more, o.ended
		o.mu.Unlock()
		if test(all) {
			return all, nil
		}
		if ended {
			return nil, errors.New("the machine has ended")
		}
		select {
		case <-more:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
}

// object is one of JSON's.
type object = map[string]any

func text(o object) string {
	b, err := json.Marshal(o)
	if err != nil {
		panic(err) // plain values only
	}
	return string(b)
}
