package layout

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// disk makes a file of some MiB by commands of the reference tools, and opens it.
func disk(t testing.TB, mib int64, commands string) *os.File {
	t.Helper()
	for _, part := range strings.FieldsFunc(commands, func(r rune) bool { return r == ';' || r == '|' }) {
		tool := strings.Fields(part)[0]
		if !strings.Contains("echo mkdir printf cd for do done rm true head if then fi", tool) {
			testbed.NeedTool(t, tool)
		}
	}
	testbed.NeedTool(t, "sh")
	dir := t.TempDir()
	f, err := os.Create(filepath.Join(dir, "disk"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(mib<<20))
	cmd := exec.Command("sh", "-ec", commands)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { f.Close() })
	reopened, err := os.Open(f.Name()) // a tool may have put another file in its place
	require.NoError(t, err)
	t.Cleanup(func() { reopened.Close() })
	return reopened
}

func TestFileSystemsOfTheReferenceTools(t *testing.T) {
	for _, c := range []struct {
		mib            int64
		commands, kind string
		label          string
		size           int64
	}{
		{2, "mkfs.vfat -F 12 -n SALTBOOT disk", "FAT12", "SALTBOOT", 2 << 20},
		{32, "mkfs.vfat -F 16 -n SALTBOOT disk", "FAT16", "SALTBOOT", 32 << 20},
		{64, "mkfs.vfat -F 32 -n SALTBOOT disk", "FAT32", "SALTBOOT", 64 << 20},
		{64, "mkfs.vfat -F 32 disk", "FAT32", "", 64 << 20},
		{64, "mkfs.vfat -F 32 -n OLD disk; mlabel -i disk ::NEWNAME", "FAT32", "NEWNAME", 64 << 20},
		{16, "mkfs.exfat -L tides disk", "exFAT", "tides", 16 << 20},
		{8, "mkfs.ext2 -q -L tides disk", "ext2", "tides", 8 << 20},
		{8, "mkfs.ext3 -q -L tides disk", "ext3", "tides", 8 << 20},
		{16, "mkfs.ext4 -q -b 4096 -L tides disk", "ext4", "tides", 16 << 20},
		{0, "mkdir a; echo hi > a/b; rm disk; mksquashfs a disk -quiet", "squashfs", "", -1},
		{0, "mkdir a; echo hi > a/b; xorriso -as mkisofs -quiet -V SALTMARSH -o disk a", "ISO 9660", "SALTMARSH", -1},
		{0, "mkdir a; echo hi > a/b; rm disk; mkfs.erofs disk a", "erofs", "", -1},
		{8, "mkswap -L tides disk", "swap", "tides", 0},
		{256, "mkfs.btrfs -q -L tides disk", "btrfs", "tides", 256 << 20},
		{64, "mkfs.f2fs -q -l tides disk", "f2fs", "tides", 64 << 20},
		{320, "mkfs.xfs -q -L tides disk", "xfs", "tides", 320 << 20},
		{1, "true", "", "", 0},
	} {
		t.Run(c.commands, func(t *testing.T) {
			f := disk(t, c.mib, c.commands)
			fs, err := Identify(f)
			require.NoError(t, err)
			assert.Equal(t, FSKind(c.kind), fs.Kind)
			assert.Equal(t, c.label, fs.Label)
			if c.size >= 0 {
				assert.InDelta(t, c.size, fs.Size, 1<<20)
			} else {
				assert.Positive(t, fs.Size)
			}
		})
	}
}

func TestPartitionTablesOfTheReferenceTools(t *testing.T) {
	part := func(p Part) string {
		return fmt.Sprintf("%d %d+%d %s %s", p.Number, p.Start>>20, p.Length>>20, p.Type, p.Name)
	}
	for _, c := range []struct {
		commands string
		scheme   Scheme
		sector   int64
		parts    []string
	}{
		{
			`printf 'label: dos\n1M,8M,c,*\n,16M,5\n,4M,83\n,2M,82\n,1M,83\n' | sfdisk -q disk`, SchemeMBR, 512,
			[]string{"1 1+8 FAT32 ", "2 9+16 extended ", "3 25+4 Linux ", "4 29+2 Linux swap "},
		},
		{
			`printf 'label: dos\n1M,8M,c\n9M,20M,5\n10M,4M,83\n15M,4M,83\n20M,3M,82\n' | sfdisk -q disk`, SchemeMBR,
			512,
			[]string{"1 1+8 FAT32 ", "2 9+20 extended ", "5 10+4 Linux ", "6 15+4 Linux ", "7 20+3 Linux swap "},
		},
		{
			`echo 'label: gpt' > in; echo 'start=1MiB,size=8MiB,type=U,name=boot' >> in
				echo 'start=9MiB,size=16MiB,type=L,name="tide tables"' >> in; sfdisk -q disk < in`, SchemeGPT, 512,
			[]string{"1 1+8 EFI system boot", "2 9+16 Linux tide tables"},
		},
		{
			"sgdisk -n 1:2048:+8M -t 1:ef00 -n 2:0:+8M disk; sgdisk -h 1:EE disk", Hybrid, 512,
			[]string{"1 1+8 EFI system ", "2 9+8 Linux "},
		},
		{"true", NoTable, 512, nil},
		{"mkfs.vfat disk", NoTable, 512, nil},
		{"mkfs.ext4 -q disk", NoTable, 512, nil},
	} {
		t.Run(c.commands, func(t *testing.T) {
			f := disk(t, 48, c.commands)
			table, err := ReadTable(f, 48<<20, SectorSize)
			require.NoError(t, err)
			assert.Equal(t, c.scheme, table.Scheme)
			assert.Zero(t, table.Damage)
			if c.scheme != NoTable {
				assert.Equal(t, c.sector, table.Sector)
			}
			var parts []string
			for _, p := range table.Parts {
				parts = append(parts, part(p))
			}
			if len(c.parts) == 4 && c.scheme == SchemeMBR { // the tool puts more than four primary ones nowhere
				parts = parts[:min(len(parts), 4)]
			}
			assert.Equal(t, c.parts, parts)
		})
	}
}

func TestLargeSectors(t *testing.T) {
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "sfdisk")
	loop := testbed.Loop(t, testbed.Sparse(t, filepath.Join(t.TempDir(), "disk"), 48<<20), "--sector-size", "4096")
	cmd := exec.Command("sfdisk", "-q", loop)
	cmd.Stdin = strings.NewReader("label: gpt\nstart=256,size=2048,type=U\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	f, err := os.Open(loop)
	require.NoError(t, err)
	defer f.Close()
	table, err := ReadTable(f, 48<<20, SectorSize)
	require.NoError(t, err)
	require.Len(t, table.Parts, 1)
	assert.Equal(t, Part{1, 1 << 20, 8 << 20, "EFI system", "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", "", false},
		table.Parts[0])
}

func TestDamagedTablesAreSaidToBe(t *testing.T) {
	f := disk(t, 48, `printf 'label: gpt\n1M,8M,U\n' | sfdisk -q disk`)
	whole := make([]byte, 1<<20)
	_, err := f.ReadAt(whole, 0)
	require.NoError(t, err)
	for damage, at := range map[TableFault]int{
		HeaderCheck:  512 + 40,
		EntriesCheck: 1024 + 56,
		NoGPT:        512,
		HeaderLength: 512 + 12 + 3, // beyond 2^31
	} {
		broken := bytes.Clone(whole)
		broken[at] ^= 0x90
		table, err := ReadTable(bytes.NewReader(broken), 48<<20, SectorSize)
		require.NoError(t, err)
		assert.Equal(t, damage, table.Damage.What)
	}
	table, err := ReadTable(bytes.NewReader(whole[:1100]), 48<<20, SectorSize)
	require.NoError(t, err)
	assert.Equal(t, NoEntries, table.Damage.What)
}

// program builds a Go program for another system and processor.
func program(t *testing.T, system, arch string) []byte {
	t.Helper()
	testbed.NeedTool(t, "go")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte("package main\n\nfunc main() {}\n"), 0o600))
	cmd := exec.Command("go", "build", "-o", "out", "main.go")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GOOS="+system, "GOARCH="+arch, "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	data, err := os.ReadFile(filepath.Join(dir, "out"))
	require.NoError(t, err)
	return data
}

func TestProcessors(t *testing.T) {
	for arch, want := range map[string]string{
		"arm64": "64-bit ARM", "arm": "32-bit ARM", "amd64": "64-bit x86", "386": "32-bit x86",
		"riscv64": "64-bit RISC-V",
	} {
		head := program(t, "linux", arch)[:4096]
		assert.Equal(t, want, Processor(head), arch)
		var packed bytes.Buffer
		z := gzip.NewWriter(&packed)
		_, err := z.Write(head)
		require.NoError(t, errors.Join(err, z.Close()))
		assert.Equal(t, want, Processor(packed.Bytes()), "packed")
		for n := range head[:600] { // cut short, it is that or nothing
			assert.Contains(t, []string{want, ""}, Processor(head[:n]))
		}
	}
	assert.Equal(t, "64-bit x86", Processor(program(t, "windows", "amd64")[:4096]), "as firmware has them")
	head := func(at int, mark string) []byte {
		b := make([]byte, 1024)
		copy(b[at:], mark)
		return b
	}
	pe := func(machine string) []byte {
		b := head(0, "MZ")
		b[0x3C] = 0x80
		copy(b[0x80:], "PE\x00\x00"+machine)
		return b
	}
	for machine, want := range map[string]string{
		"\x64\xaa": "64-bit ARM", "\xc4\x01": "32-bit ARM", "\x4c\x01": "32-bit x86", "\x64\x50": "64-bit RISC-V",
		"\x00\x02": "",
	} {
		assert.Equal(t, want, Processor(pe(machine)))
	}
	wide := head(0x202, "HdrS")
	wide[0x206], wide[0x207], wide[0x236] = 0x0F, 0x02, 1
	assert.Equal(t, "64-bit x86", Processor(wide))
	for want, head := range map[string][]byte{
		"64-bit ARM": head(56, "ARM\x64"), "32-bit ARM": head(0x24, "\x18\x28\x6f\x01"),
		"64-bit RISC-V": head(0x38, "RSC\x05"), "32-bit x86": head(0x202, "HdrS"),
		"": head(0, "MZ"),
	} {
		assert.Equal(t, want, Processor(head))
	}
}

// TestBootPartition has a volume with long names, folders, an overlay folder, a packed kernel and one for each
// processor, in each kind of FAT, with files spread over it.
func TestBootPartition(t *testing.T) {
	testbed.NeedTool(t, "mcopy", "mmd", "mkfs.vfat", "gzip")
	kernel := append(make([]byte, 56), "ARM\x64"+strings.Repeat("tide", 40_000)...)
	for kind, mib := range map[string]int64{"12": 4, "16": 32, "32": 64} {
		dir := t.TempDir()
		for name, data := range map[string][]byte{
			"kernel8.img":        kernel,
			"tide-kernel-32.img": append(make([]byte, 0x24), "\x18\x28\x6f\x01"+strings.Repeat("x", 50_000)...),
			"small":              []byte("tiny"),
		} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
		}
		f := disk(t, mib, fmt.Sprintf(`mkfs.vfat -F %s disk; cd %s; gzip -k kernel8.img; cd -; for n in $(seq 60)
			do echo $n > "a long name of file $n.txt"; mcopy -i disk "a long name of file $n.txt" ::; done;
			mmd -i disk ::overlays ::dtbs; mcopy -i disk %[2]s/small ::overlays/brindle-clock.dtb
			mcopy -i disk %[2]s/small ::dtbs/brindle-2.dtb; mcopy -i disk %[2]s/small ::brindle-3.dtb;
			mcopy -i disk %[2]s/kernel8.img %[2]s/kernel8.img.gz %[2]s/tide-kernel-32.img ::`, kind, dir))
		v, err := OpenFAT(f)
		require.NoError(t, err)
		b := ReadBoot(v)
		assert.Empty(t, b.Damage)
		assert.Equal(t, 66, b.Files, kind)
		assert.Equal(t, []string{"brindle-2", "brindle-3"}, b.Boards)
		assert.Equal(t, []string{"32-bit ARM", "64-bit ARM"}, b.Processors())
		assert.Equal(t, "kernel8.img", b.Largest[0])
	}
}

func TestWhatADiskIs(t *testing.T) {
	for _, c := range []struct {
		commands string
		kind     Kind
	}{
		{`printf 'label: dos\n1M,8M,c\n' | sfdisk -q disk`, KindDisk},
		{"mkfs.ext4 -q disk", KindFileSystem},
		{"true", KindBlank},
		{"head -c 2M /dev/urandom > disk", KindUnknown},
		{"mkdir a; echo hi > a/b; xorriso -as mkisofs -quiet -o disk a", KindPlainDisc},
		{
			"mkdir a; echo hi > a/b; xorriso -as mkisofs -quiet -o disk a; printf '64,256,17,*\n' | sfdisk -q " +
				"--force disk", KindDisc,
		},
	} {
		t.Run(c.commands, func(t *testing.T) {
			d, err := Describe(disk(t, 24, c.commands), 24<<20, SectorSize)
			require.NoError(t, err)
			assert.Equal(t, c.kind, d.Kind)
		})
	}
}

// TestBitLockerOnACard has the volume that stands before an encrypted one on what can be taken out: a sound FAT.
func TestBitLockerOnACard(t *testing.T) {
	const id = `printf '\073\326\147\111\051\056\330\112\203\231\366\243\071\343\320\001'`
	for commands, kind := range map[string]FSKind{
		"mkfs.vfat -F 32 disk; " + id + " | dd of=disk seek=424 bs=1 conv=notrunc": BitLocker,
		"printf -- -FVE-FS- | dd of=disk seek=3 bs=1 conv=notrunc":                 BitLocker,
		"mkfs.vfat -F 32 disk": FAT32Kind,
	} {
		fs, err := Identify(disk(t, 64, commands))
		require.NoError(t, err)
		assert.Equal(t, kind, fs.Kind, commands)
	}
}

// FuzzDescribe takes any bytes for a disk: what is said of it may be nonsense, but it must come soon.
func FuzzDescribe(f *testing.F) {
	for _, commands := range []string{
		"mkfs.vfat -F 12 disk", "mkfs.exfat disk", "mkfs.ext4 -q disk",
		"printf 'label: gpt\\n1M,,U\\n' | sfdisk -q disk",
		"printf 'label: dos\\n64,9,5\\n65,2,1\\n70,2,1\\n' | sfdisk -q disk",
	} {
		if _, err := exec.LookPath(strings.Fields(commands)[0]); err != nil {
			continue
		}
		dir := f.TempDir()
		path := filepath.Join(dir, "disk")
		if os.WriteFile(path, make([]byte, 2<<20), 0o600) != nil ||
			exec.Command("sh", "-ec", "cd "+dir+"; "+commands).Run() != nil {
			continue
		}
		data, _ := os.ReadFile(path)
		f.Add(data[:128<<10])
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := Describe(bytes.NewReader(data), int64(len(data)), SectorSize)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range d.Parts {
			if p.Start < 0 {
				t.Fatalf("%+v", p)
			}
		}
		if v, err := OpenFAT(bytes.NewReader(data)); err == nil {
			ReadBoot(v)
		}
	})
}

// TestDamagedVolumesEnd has chains of clusters that go round, or lead out of the volume.
func TestDamagedVolumesEnd(t *testing.T) {
	data := make([]byte, 9000)
	disk := fatOf(t, map[string][]byte{"logs/a.bin": data, "b.bin": data}, "logs/a.bin", "b.bin")
	r, err := OpenFAT(bytes.NewReader(disk))
	require.NoError(t, err)
	for entry, damage := range map[uint16]string{2: "", 0xFFF0: "is not one of the volume's"} {
		broken := bytes.Clone(disk)
		for at := r.table + 4; at < r.table+200; at += 2 { // every cluster leads to the same one
			le.PutUint16(broken[at:], entry)
		}
		v, err := OpenFAT(bytes.NewReader(broken))
		require.NoError(t, err)
		files, err := v.Files()
		require.NoError(t, err, "the folders end before their chains go wrong")
		require.Len(t, files, 2)
		for _, f := range files {
			_, err := v.Head(f, 1<<20)
			if damage != "" {
				assert.ErrorContains(t, err, damage)
			}
		}
	}
}

// TestTablesOfLargeSectors reads tables that count sectors of 4096 bytes, with logical partitions, and one of an image
// for sectors of 512 that was written to such a disk.
func TestTablesOfLargeSectors(t *testing.T) {
	const mib = 1 << 20
	fat, err := io.ReadAll(io.NewSectionReader(disk(t, 4, "mkfs.vfat -S 4096 -n SALTBOOT disk"), 0, 4*mib))
	require.NoError(t, err)
	for _, unit := range []int64{4096, 512} {
		data := make([]byte, 48*mib)
		at := func(n int64) uint32 { return uint32(n * mib / unit) }
		first := MBR(7, Partition{Type: 0x0C, Start: at(4), Sectors: at(4)},
			Partition{Type: 0x05, Start: at(16), Sectors: at(16)})
		copy(data, first[:])
		logical := MBR(0, Partition{Type: 0x0C, Start: at(1), Sectors: at(4)},
			Partition{Type: 0x05, Start: at(8), Sectors: at(8)})
		copy(data[16*mib:], logical[:])
		last := MBR(0, Partition{Type: 0x83, Start: at(1), Sectors: at(4)})
		copy(data[24*mib:], last[:])
		copy(data[4*mib:], fat)
		copy(data[17*mib:], fat)
		d, err := Describe(bytes.NewReader(data), int64(len(data)), 4096)
		require.NoError(t, err)
		var starts []int64
		for _, p := range d.Parts {
			starts = append(starts, p.Start/mib)
		}
		assert.Equal(t, []int64{4, 16, 17, 25}, starts, "sectors of %d", unit)
		assert.Equal(t, int64(32*mib), d.Table.End())
		assert.Equal(t, "SALTBOOT", d.Parts[2].Label)
	}
}

// TestFreeByTheTableThatCounts has a FAT32 whose second table alone is kept, and one whose tables differ.
func TestFreeByTheTableThatCounts(t *testing.T) {
	f := disk(t, 40, "mkfs.vfat -F 32 -s 1 disk; head -c 300000 /dev/zero | tr '\\0' x >a; mcopy -i disk a ::a")
	data, err := io.ReadAll(io.NewSectionReader(f, 0, 40<<20))
	require.NoError(t, err)
	v, err := OpenFAT(bytes.NewReader(data))
	require.NoError(t, err)
	files, err := v.Files()
	require.NoError(t, err)
	at, err := v.Extents(files[0])
	require.NoError(t, err)
	used := func(data []byte) bool {
		free, err := Free(bytes.NewReader(data), FAT32Kind, int64(len(data)))
		require.NoError(t, err)
		return !slices.ContainsFunc(free, func(e Extent) bool {
			return e.Offset < at[0].End() && at[0].Offset < e.End()
		})
	}
	require.True(t, used(data))
	clear(data[v.table+12 : v.copy]) // the first table says that all is free
	assert.True(t, used(data), "by the second it isn't")
	data[40] = 0x81 // only the second counts
	assert.True(t, used(data))
	v, err = OpenFAT(bytes.NewReader(data))
	require.NoError(t, err)
	again, err := v.Extents(files[0])
	require.NoError(t, err)
	assert.Equal(t, at, again)
	data[40] = 0x80
	assert.False(t, used(data))
	data[40] = 0x82
	_, err = OpenFAT(bytes.NewReader(data))
	assert.ErrorIs(t, err, ErrNotFAT)
}
