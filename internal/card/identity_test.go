package card

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
)

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
		{
			"two cards with one image", with(inReader, func(i *Identity) { i.DiskID = "5a17a001" }),
			with(inReader, func(i *Identity) { i.DiskID = "5A17A001" }), MayBe,
		},
		{
			"a card with something else on it", with(inReader, func(i *Identity) { i.DiskID = "5a17a001" }),
			with(inReader, func(i *Identity) { i.DiskID = "ffff0000" }), Different,
		},
		{"a card in another reader", inReader, with(inReader, func(i *Identity) { i.Serial = "R-2" }), MayBe},
		{"a card from a slot in a reader", slot, inReader, MayBe},
		{"a card in the slot", slot, with(slot, func(i *Identity) { i.DiskID = "5a17a001" }), Same},
		{"another card in the slot", slot, with(slot, func(i *Identity) { i.CID = "27-SM-2" }), Different},
		{
			"a card that tells nothing",
			Identity{Kind: "block device", Size: 64e9},
			Identity{Kind: "block device", Size: 64e9},
			MayBe,
		},
		{"a loop device", loop, loop, Same},
		{"a loop device whose file was exchanged", loop, with(loop, func(i *Identity) { i.File = "1:6" }), Different},
		{"a loop device with another file", loop, with(loop, func(i *Identity) { i.Path = "/b.img" }), Different},
		{"a file that was exchanged", plain, with(plain, func(i *Identity) { i.File = "1:6" }), Different},
		{"a file of an older record", plain, with(plain, func(i *Identity) { i.File = "" }), MayBe},
		{"a practice card", practice, practice, Same},
		{
			"another practice card that says the same", practice,
			with(practice, func(i *Identity) { i.Path = "/b.card" }), Different,
		},
		{"a stick is no file", stick, practice, Different},
	} {
		assert.Equal(t, c.want, c.a.Like(c.b), c.what)
		assert.Equal(t, c.want, c.b.Like(c.a), "%s, the other way round", c.what)
	}
	usb := func(maker, model string, slots int) *disks.Disk {
		return &disks.Disk{Bus: disks.USB, Maker: maker, Model: model, Slots: slots}
	}
	for d, want := range map[*disks.Disk]bool{
		usb("Saltmarsh", "Tide Stick", 0): false, usb("Saltmarsh", "USB SD Reader", 0): true,
		usb("Generic", "x", 0): true, usb("", "", 0): true, usb("Saltmarsh", "Tide", 2): true,
		usb("Sandbank", "Tide", 0): false,
	} {
		assert.Equal(t, want, serialIsReaders(d), "%s", d.Title())
	}
}

// TestRecordsKeepWhatIsCompared has what receipts and journals keep of cards.
func TestRecordsKeepWhatIsCompared(t *testing.T) {
	stick := Record{Path: "/dev/sdb", Kind: Block, Size: 64e6, Serial: "A"}
	slot := Record{Path: "/dev/mmcblk0", Kind: Block, Size: 64e6, CID: "27-SM-1"}
	file := Record{Path: "/tmp/a.card", Kind: Practice, Size: 64e6}
	with := func(c Record, change func(*Record)) Record { change(&c); return c }
	assert.Equal(t, Same, stick.Like(with(stick, func(c *Record) { c.Path = "/dev/sdx" })), "names are handed out anew")
	assert.Equal(t, MayBe, stick.Like(slot), "a card from a slot in a reader: only what is on it tells")
	assert.Equal(t, Different, stick.Like(with(stick, func(c *Record) { c.Serial = "B" })))
	assert.Equal(t, Different, stick.Like(with(stick, func(c *Record) { c.Size++ })))
	assert.Equal(t, Same, slot.Like(with(slot, func(c *Record) { c.Path = "/dev/mmcblk1" })))
	assert.Equal(t, Different, slot.Like(with(slot, func(c *Record) { c.CID = "27-SM-2" })))
	assert.Equal(t, Same, file.Like(file))
	assert.Equal(t, Different, file.Like(with(file, func(c *Record) { c.Path = "/tmp/b.card" })), "a file is the file")
	loop := Card{
		Kind: Block, Size: 64e6, Path: "/dev/loop7",
		Disk: &disks.Disk{Bus: disks.Loop, Backing: "/a.img", Number: "1:5"},
	}
	assert.Equal(t, loop.Identity(), loop.Record().Identity())
}

// shelf is a host whose disks are what a test says.
type shelf struct {
	Unsupported
	disks []disks.Disk
}

func (s *shelf) Disks() ([]disks.Disk, error) { return s.disks, nil }

// TestTheCardThatWasChosen has what may be in its place when it is claimed, and when it is looked for after a reset.
func TestTheCardThatWasChosen(t *testing.T) {
	inReader := disks.Disk{
		Name: "sdf", Path: "/dev/sdf", Key: "8:80", Insertion: "5", Size: 8e9, Sector: 512, Bus: disks.USB,
		Serial: "00000001", Slot: 3, Slots: 4, USB: &disks.USBDevice{},
	}
	host := &shelf{disks: []disks.Disk{inReader}}
	all, err := Finder{Host: host}.All()
	require.NoError(t, err)
	chosen := all[0]
	_, err = chosen.again()
	require.NoError(t, err)
	for why, change := range map[guard.Cause]func(*disks.Disk){
		guard.TakenOut:   func(d *disks.Disk) { d.Key = "8:96" },
		guard.Changed:    func(d *disks.Disk) { d.Size++ },
		guard.PutInAgain: func(d *disks.Disk) { d.Insertion = "6" },
	} {
		now := inReader
		change(&now)
		host.disks = []disks.Disk{now}
		_, err := chosen.again()
		var refused *RefusedError
		require.ErrorAs(t, err, &refused)
		assert.True(t, refused.For(why), "%s: %v", why, err)
	}

	// After a reset the same card may have another name and key, but not another slot, nor another reader.
	returned := inReader
	returned.Name, returned.Key, returned.Insertion = "sdk", "8:160", "77"
	otherSlot, otherReader, larger := returned, returned, returned
	otherSlot.Slot, otherReader.Serial, larger.Size = 2, "2", 16e9
	host.disks = []disks.Disk{otherSlot, otherReader, larger}
	assert.Nil(t, chosen.back())
	host.disks = append(host.disks, returned)
	require.NotNil(t, chosen.back())
	assert.Equal(t, "sdk", chosen.back().Name)
	nobody := inReader
	nobody.Serial = ""
	assert.False(t, Finder{Host: host}.card("", nobody).comesBack(), "without a serial number nothing is known again")
}
