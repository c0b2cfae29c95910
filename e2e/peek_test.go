package e2e

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

func TestPeek(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ)
	all := []string{
		"49.3 MB (49,300,480 bytes)", "64 MB or larger", "MBR",
		`partition 1 21.0 MB at 1.05 MB, FAT16, label "SALTBOOT", active`, `label "TIDEDATA"`, "kernel.bin: 64-bit ARM",
		"brindle2 and brindle3",
	}
	d.want(0, "is an image with 2 partitions, for 64-bit ARM", "peek", osXZ).mentions(t, all...)
	d.card("x.card", "--claimed", "64MB")
	d.want(0, "x.card is blank", "peek", "x.card")
	d.want(0, "Stamped", "stamp", "--yes", "--unchecked", osXZ, "x.card")
	d.want(0, "x.card has 2 partitions, for 64-bit ARM", "peek", "x.card").mentions(t, all[2:]...)

	doc := document(t, d.want(0, "", "peek", "--json", osXZ))
	assert.EqualValues(t, 64e6, doc["smallest_card"])
	assert.Equal(t, map[string]any{"bytes": 49300480., "certainty": "exact"}, doc["unpacked"])
	boot := doc["boot"].(map[string]any)
	assert.Equal(t, []any{"brindle2", "brindle3"}, boot["boards"])
	assert.Equal(t, map[string]any{"kernel.bin": "64-bit ARM"}, boot["kernels"])

	d.write("short.img", unpack[:30<<20])
	d.want(0, "the file is cut short", "peek", "short.img").mentions(t, "17.8 MB")
	d.write("bare.img", unpack[1<<20:22<<20])
	d.want(0, "is a single file system (FAT16)", "peek", "bare.img").mentions(t, "64-bit ARM",
		"belongs in a partition")
	d.write("page.img", []byte("<html><title>Saltmarsh OS: \x1b[31mchoose a mirror</title>"))
	d.want(3, "is a web page", "peek", "page.img")
	d.want(2, "there is no file none.img", "peek", "none.img")
	d.want(4, "is a character device", "peek", "/dev/null")
	d.want(2, "no card was named, and there is no terminal to choose one on", "peek")
	d.want(2, "takes at most 1 argument, but 2 were given", "peek", "a", "b")

	testbed.NeedTool(t, "xorriso", "zip")
	prepare := exec.Command("sh", "-ec",
		"mkdir -p a/overlays; echo x > a/brindle3.dtb; echo x > a/overlays/tide.dtb; (cd a; zip -qr ../loose.zip .); "+
			"xorriso -as mkisofs -quiet -V SALT -o disc.iso a 2>/dev/null; cp disc.iso hybrid.iso; printf "+
			"'64,256,17,*\n' | sfdisk -q --force hybrid.iso")
	prepare.Dir = d.dir
	out, err := prepare.CombinedOutput()
	require.NoError(t, err, "%s", out)
	d.want(3, "holds boot files", "peek", "loose.zip").mentions(t, "zipstamp blank CARD --with loose.zip")
	d.want(0, "is an optical disc without a partition table", "peek", "disc.iso")
	d.want(0, "is an installer or live disc (ISO hybrid)", "peek", "hybrid.iso")
}

// TestPeekIntoABlockDevice needs no rights to write, and doesn't wait for others.
func TestPeekIntoABlockDevice(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.write("disk", unpack)
	loop := testbed.Loop(t, d.path("disk"))
	d.want(0, "has 2 partitions, for 64-bit ARM", "peek", loop).mentions(t, "block device", "SALTBOOT")
}
