package layout

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"debug/elf"
	"io"
	"path"
	"slices"
	"strings"
)

// Boot is what a file system that a board starts from tells of the boards it is for.
type Boot struct {
	Files   int
	Bytes   int64    // of all files
	Largest []string // names of the largest files, the largest first
	Kernels []Kernel
	Boards  []string // names of device-tree files, without their ending, sorted; overlays are left out
	Damage  string   // why not all could be read; empty if all was
}

// Kernel is a kernel or boot program, and the processor that it is for.
type Kernel struct {
	Path      string
	Processor string // "64-bit ARM"
}

// Processors are those of the kernels, each once, sorted.
func (b *Boot) Processors() []string {
	var all []string
	for _, k := range b.Kernels {
		all = append(all, k.Processor)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

const (
	kernelMin   = 32 << 10 // bytes: boot programs are larger
	kernelsMax  = 48       // files looked into
	kernelHead  = 64 << 10
	largestShow = 4
)

// ReadBoot lists a FAT file system, and looks into the files that may be kernels.
func ReadBoot(v *FAT) *Boot {
	files, err := v.Files()
	b := &Boot{Files: len(files)}
	if err != nil {
		b.Damage = err.Error()
	}
	for _, f := range files {
		b.Bytes += f.Size
		name := strings.ToLower(path.Base(f.Path))
		if board, isTree := strings.CutSuffix(name, ".dtb"); isTree && !strings.Contains(strings.ToLower(path.Dir(
			f.Path,
		)), "overlay") {
			b.Boards = append(b.Boards, board)
		}
	}
	slices.Sort(b.Boards)
	b.Boards = slices.Compact(b.Boards)
	bySize := slices.SortedStableFunc(slices.Values(files), func(x, y FATFile) int {
		return int(min(max(y.Size-x.Size, -1), 1))
	})
	for _, f := range bySize[:min(len(bySize), largestShow)] {
		b.Largest = append(b.Largest, f.Path)
	}
	maybe := slices.DeleteFunc(slices.Clone(files), func(f FATFile) bool {
		return f.Size < kernelMin || !mayBeKernel(f.Path)
	})
	// in the order in which they lie in the volume, so that a packed image is unpacked once
	slices.SortFunc(maybe, func(x, y FATFile) int { return cmp.Compare(x.first, y.first) })
	for _, f := range maybe[:min(len(maybe), kernelsMax)] {
		head, err := v.Head(f, kernelHead)
		if err != nil {
			b.Damage = err.Error()
			continue
		}
		if p := Processor(head); p != "" {
			b.Kernels = append(b.Kernels, Kernel{f.Path, p})
		}
	}
	slices.SortFunc(b.Kernels, func(x, y Kernel) int { return strings.Compare(x.Path, y.Path) })
	return b
}

// mayBeKernel leaves out what is surely none.
func mayBeKernel(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".dtb", ".dtbo", ".txt", ".jpg", ".png", ".bmp", ".html", ".md", ".pdf", ".zip", ".xz", ".ttf", ".pf2", ".csv",
		".json":
		return false
	}
	return true
}

// bootEndings are those of kernels, device trees, boot scripts and other programs that a board starts by.
var bootEndings = []string{".img", ".bin", ".elf", ".dtb", ".dtbo", ".efi", ".scr", ".itb", ".gz"}

// IsBootFile tells by its name whether a file is one that a board starts by and doesn't write: a kernel, a device tree,
// a program. Text files, which boards and people change, are none.
func IsBootFile(name string) bool {
	name = strings.ToLower(path.Base(name))
	if slices.Contains(bootEndings, path.Ext(name)) || name == "image" {
		return true
	}
	return slices.ContainsFunc([]string{"vmlinu", "initrd", "zimage"}, func(start string) bool {
		return strings.HasPrefix(name, start)
	})
}

// Processor tells which processor the program that starts with head is for; empty if it is no known program.
func Processor(head []byte) string {
	if bytes.HasPrefix(head, []byte{0x1f, 0x8b, 8}) { // a packed kernel
		z, err := gzip.NewReader(bytes.NewReader(head))
		if err != nil {
			return ""
		}
		inner := make([]byte, 4096)
		n, _ := io.ReadFull(z, inner)
		if inner = inner[:n]; bytes.HasPrefix(inner, []byte{0x1f, 0x8b, 8}) {
			return "" // packed twice is no kernel
		}
		return Processor(inner)
	}
	switch {
	case bytes.HasPrefix(head, []byte("\x7fELF")):
		return elfProcessor(head)
	case KernelARM64.In(head):
		return "64-bit ARM"
	case KernelARM32.In(head):
		return "32-bit ARM"
	case KernelRISCV.In(head):
		return "64-bit RISC-V"
	case KernelX86.In(head): // bit 0 of xloadflags: 64 bits
		if len(head) > 0x236 && le.Uint16(head[0x206:]) >= 0x20C && head[0x236]&1 != 0 {
			return "64-bit x86"
		}
		return "32-bit x86"
	case bytes.HasPrefix(head, []byte("MZ")) && len(head) >= 0x40:
		return peProcessor(head)
	}
	return ""
}

func elfProcessor(head []byte) string {
	if len(head) < 20 {
		return ""
	}
	wide := head[elf.EI_CLASS] == byte(elf.ELFCLASS64)
	switch machine := elf.Machine(le.Uint16(head[18:])); {
	case machine == elf.EM_AARCH64:
		return "64-bit ARM"
	case machine == elf.EM_ARM:
		return "32-bit ARM"
	case machine == elf.EM_X86_64:
		return "64-bit x86"
	case machine == elf.EM_386:
		return "32-bit x86"
	case machine == elf.EM_RISCV && wide:
		return "64-bit RISC-V"
	case machine == elf.EM_RISCV:
		return "32-bit RISC-V"
	}
	return "" // firmware of other processors says nothing of the board's own
}

// peProcessor reads the Machine field (PE Format, "COFF File Header").
func peProcessor(head []byte) string {
	pe := int64(le.Uint32(head[0x3C:]))
	if pe+6 > int64(len(head)) || string(head[pe:pe+4]) != "PE\x00\x00" {
		return ""
	}
	switch le.Uint16(head[pe+4:]) {
	case 0xAA64:
		return "64-bit ARM"
	case 0x01C0, 0x01C2, 0x01C4:
		return "32-bit ARM"
	case 0x8664:
		return "64-bit x86"
	case 0x014C:
		return "32-bit x86"
	case 0x5064:
		return "64-bit RISC-V"
	}
	return ""
}
