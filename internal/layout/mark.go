package layout

// Mark is bytes at a fixed place by which something is known.
type Mark struct {
	At    int // bytes from the start
	Bytes string
}

// In tells whether something that starts with head has the mark.
func (m Mark) In(head []byte) bool {
	return len(head) >= m.At+len(m.Bytes) && string(head[m.At:m.At+len(m.Bytes)]) == m.Bytes
}

// Marks of kernels and of what loaders of boards read (Linux, Documentation/arch; Devicetree Specification 0.4, section
// 5.2).
var (
	KernelARM64 = Mark{56, "ARM\x64"}            // arm64/booting.rst
	KernelARM32 = Mark{0x24, "\x18\x28\x6f\x01"} // arm/booting.rst: zImage
	KernelRISCV = Mark{0x38, "RSC\x05"}          // riscv/boot-image-header.rst
	KernelX86   = Mark{0x202, "HdrS"}            // x86/boot.rst
	DeviceTree  = Mark{0, "\xd0\x0d\xfe\xed"}
)
