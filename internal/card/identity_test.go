package card

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/disks"
)

// A file that was made again under its name may have the number of the one before, and is another card all the same.
func TestFileThatWasMadeAgainIsAnotherCard(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("when a file was made is not asked for on " + runtime.GOOS)
	}
	path := filepath.Join(t.TempDir(), "a.card")
	before := ""
	for range 8 {
		require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
		now := (&Card{Kind: Plain, Path: path, Size: 1 << 20}).Identity()
		assert.NotEmpty(t, now.File)
		assert.NotEqual(t, before, now.File)
		before = now.File
		again := (&Card{Kind: Plain, Path: path, Size: 1 << 20}).Identity()
		assert.Equal(t, Same, now.Like(again))
		require.NoError(t, os.Remove(path))
		time.Sleep(20 * time.Millisecond) // the time of making is kept in ticks of the system
	}
}

func TestWhichCardIsIt(t *testing.T) {
	with := func(i Identity, change func(*Identity)) Identity { change(&i); return i }
	stick := Identity{Kind: "block device", Bus: "USB", Size: 64e9, Serial: "SW-1"}
	inReader := Identity{Kind: "block device", Bus: "USB", Size: 64e9, Serial: "R-1", Reader: true}
	slot := Identity{Kind: "block device", Bus: "SD slot", Size: 64e9, CID: "27-SM-1"}
	loop := Identity{Kind: "block device", Bus: "loop device", Size: 64e9, Path: "/a.img", File: "1:5"}
	plain := Identity{Kind: "plain file", Size: 64e9, Path: "/a.img", File: "1:5"}
	practice := Identity{Kind: "practice card", Size: 64e9, Path: "/a.card", Serial: "SW-1"}
	for _, c := range []struct {
		what string
		a, b Identity
		want Likeness
	}{
		{"a stick with a number of its own", stick, stick, Same},
		{"another stick", stick, with(stick, func(i *Identity) { i.Serial = "SW-2" }), Different},
		{"another size", stick, with(stick, func(i *Identity) { i.Size++ }), Different},
		{"a card in a reader, whose number is no card's", inReader, inReader, MayBe},
		{"two cards with one image", with(inReader, func(i *Identity) { i.DiskID = "5a17a001" }), with(inReader, func(i *Identity) { i.DiskID = "5A17A001" }), MayBe},
		{"a card with something else on it", with(inReader, func(i *Identity) { i.DiskID = "5a17a001" }), with(inReader, func(i *Identity) { i.DiskID = "ffff0000" }), Different},
		{"a card in another reader", inReader, with(inReader, func(i *Identity) { i.Serial = "R-2" }), MayBe},
		{"a card from a slot in a reader", slot, inReader, MayBe},
		{"a card in the slot", slot, with(slot, func(i *Identity) { i.DiskID = "5a17a001" }), Same},
		{"another card in the slot", slot, with(slot, func(i *Identity) { i.CID = "27-SM-2" }), Different},
		{"a card that tells nothing", Identity{Kind: "block device", Size: 64e9}, Identity{Kind: "block device", Size: 64e9}, MayBe},
		{"a loop device", loop, loop, Same},
		{"a loop device whose file was exchanged", loop, with(loop, func(i *Identity) { i.File = "1:6" }), Different},
		{"a loop device with another file", loop, with(loop, func(i *Identity) { i.Path = "/b.img" }), Different},
		{"a file that was exchanged", plain, with(plain, func(i *Identity) { i.File = "1:6" }), Different},
		{"a file of an older record", plain, with(plain, func(i *Identity) { i.File = "" }), MayBe},
		{"a practice card", practice, practice, Same},
		{"another practice card that says the same", practice, with(practice, func(i *Identity) { i.Path = "/b.card" }), Different},
		{"a stick is no file", stick, practice, Different},
	} {
		assert.Equal(t, c.want, c.a.Like(c.b), c.what)
		assert.Equal(t, c.want, c.b.Like(c.a), "%s, the other way round", c.what)
	}
	usb := func(maker, model string, slots int) *disks.Disk {
		return &disks.Disk{Bus: disks.USB, Maker: maker, Model: model, Slots: slots}
	}
	for d, want := range map[*disks.Disk]bool{
		usb("Saltmarsh", "Tide Stick", 0): false, usb("Saltmarsh", "USB SD Reader", 0): true, usb("Generic", "x", 0): true, usb("", "", 0): true, usb("Saltmarsh", "Tide", 2): true,
		usb("Sandbank", "Tide", 0): false,
	} {
		assert.Equal(t, want, serialIsReaders(d), "%s", d.Title())
	}
}
