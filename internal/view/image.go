package view

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"zipstamp/internal/image"
	"zipstamp/internal/shell"
)

// strangers are things that are no image of a disk, in words.
var strangers = map[image.StrangerKind]string{
	image.ProgramELF: "a program (ELF)", image.ProgramMachO: "a program (Mach-O)",
	image.ProgramFat: "a program (Mach-O or Java)", image.ProgramWindows: "a program (Windows)",
	image.OfficeDocument: "an installer or office document", image.Script: "a script", image.PDF: "a PDF document",
	image.Package: "a software package", image.PackageRPM: "a software package (RPM)", image.Archive7z: "a 7z archive",
	image.ArchiveRAR: "a RAR archive", image.ArchiveZip: "a zip archive", image.ArchiveTar: "a tar archive",
	image.FileGzip: "a gzip file", image.FileXZ: "an xz file", image.FileZstd: "a zstd file",
	image.FileLZ4: "an lz4 file", image.PicturePNG: "a picture (PNG)", image.PictureJPEG: "a picture (JPEG)",
	image.PictureGIF: "a picture (GIF)", image.KernelARM64: "a Linux kernel (64-bit ARM)",
	image.KernelARM32: "a Linux kernel (32-bit ARM)", image.KernelRISCV: "a Linux kernel (RISC-V)",
	image.KernelX86: "a Linux kernel (x86)", image.DeviceTree: "a device tree",
	image.BootLoaderFile: "a file for a boot loader", image.InitialFS: "an initial file system (cpio)",
	image.WebPage: "a web page", image.XML: "an XML document",
	image.Text: "text",
}

// Stranger says what something is that is no image of a disk: "a web page ("Sign in")".
func Stranger(s image.Stranger) string {
	text := strangers[s.Kind]
	if s.Title != "" {
		text += fmt.Sprintf(" (%q)", s.Title)
	}
	return text
}

// article is a name with its article.
func article(name string) string {
	if strings.ContainsRune("aeiou8x", rune(name[0])) {
		return "an " + name
	}
	return "a " + name
}

// unusableClause goes on after the name of a file, or "it": why it gives no image.
func unusableClause(e *image.UnusableError) string {
	what := strings.TrimSpace(e.Name)
	switch e.Why {
	case image.Empty:
		return "is empty"
	case image.IsOther:
		return "is " + Stranger(e.Other) + ", not an image of a disk"
	case image.HoldsOther:
		return "holds " + Stranger(e.Other) + ", not an image of a disk"
	case image.HoldsNothing:
		return "holds an image of no bytes"
	case image.HoldsLittle:
		return fmt.Sprintf("holds %s, too few for an image of a disk", Count(e.Bytes, "byte"))
	case image.HoldsNoImage:
		switch e.Count {
		case 0:
			return "is " + article(e.Packing) + " archive with no files in it"
		case 1:
			return fmt.Sprintf("holds no image of a disk; its only file is %s (%s)", what, Count(e.Bytes, "byte"))
		}
		return fmt.Sprintf("holds no image of a disk; the largest of its %d files is %s (%s)", e.Count, what,
			Count(e.Bytes, "byte"))
	case image.HoldsBootFiles:
		return fmt.Sprintf("holds boot files (%s among %d files), and no image of a disk", what, e.Count)
	case image.NoArchive:
		return "is no archive of files"
	case image.TakenApart:
		return "is an archive whose files are wanted"
	case image.HoldsOne:
		return "holds a single image, so there is no member to choose"
	case image.PackedTooOften:
		return fmt.Sprintf("is packed more than %d times over", e.Count)
	case image.UnpacksToMuch:
		says := "unpacks to"
		if e.Claimed {
			says = "says that it unpacks to"
		}
		return fmt.Sprintf("%s more than %s, which is more than is sensible for a file of its size", says,
			Count(e.Most, "byte"))
	case image.ManyMembers:
		return fmt.Sprintf("has more than %s members, or says so; archives of images have a few",
			humanize.Comma(e.Count))
	case image.NeedsFile:
		return "is " + article(e.Packing) + " archive, which can't be unpacked as it comes in"
	case image.Encrypted:
		if what != "" {
			return "is encrypted: " + what + " needs a password"
		}
		return "is encrypted: it needs a password"
	case image.UnknownMethod:
		if what != "" {
			return fmt.Sprintf("packs %s by method %s, which this version cannot unpack", what, e.Method)
		}
		return "is packed by a method that is not built in"
	case image.UnknownFilter:
		return fmt.Sprintf(
			"can't be unpacked: it is packed with the filter %s, which is not built in or not allowed there", e.Method,
		)
	case image.UnknownVersion:
		return fmt.Sprintf("is a sparse Android image of version %d, and only version 1 can be read", e.Count)
	case image.NeedsMemory:
		if e.Bytes > 0 {
			return fmt.Sprintf("can't be unpacked: it needs a dictionary of %d MiB, and the limit is %d MiB",
				e.Bytes>>20, e.Most>>20)
		}
		return fmt.Sprintf("can't be unpacked: it needs more than %d MiB of memory", e.Most>>20)
	}
	return string(e.Why)
}

// unusableNext is what to do about it.
func unusableNext(e *image.UnusableError) string {
	switch e.Why {
	case image.Empty, image.HoldsNothing:
		return "download it again"
	case image.IsOther:
		if e.Other.Packed() {
			return "unpack it first, and give the image that is in it"
		}
		return "download the image again, from its publisher's page"
	case image.HoldsOther:
		if e.Other.Packed() {
			return "unpack it once, and give the " + strings.TrimPrefix(strings.TrimPrefix(Stranger(e.Other), "an "),
				"a ") + " that comes out"
		}
	case image.HoldsNoImage:
		return "look for another download, or unpack it and see what it holds"
	case image.HoldsBootFiles:
		return "such files are copied onto a FAT card, not stamped. To make one: zipstamp blank CARD --with " +
			shell.File(e.Path)
	case image.NoArchive:
		return "give an archive of files, or a folder"
	case image.HoldsOne:
		return "leave --member out"
	case image.PackedTooOften:
		return "unpack it, and see what it holds"
	case image.UnpacksToMuch:
		return "if you know that it is right, allow it: --max-unpacked SIZE"
	case image.NeedsFile:
		return "save it to a file, and give that"
	case image.Encrypted:
		return "unpack it with its password, with the program that made it, and give the image that comes out; a " +
			"published digest of the archive is not that of the image"
	case image.UnknownMethod:
		return "unpack it with the program that made it, and give the image that comes out"
	case image.UnknownFilter, image.UnknownVersion, image.NeedsMemory:
		return "look for another download of the same image"
	}
	return "look for another download"
}
