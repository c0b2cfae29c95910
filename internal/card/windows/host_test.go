package windows

import (
	"context"
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/layout"
)

// reader is a computer with a card of 8 MiB in a reader, with two letters.
func reader() *scripted {
	d := edited(sdReader, func(d *DiskAnswers) {
		d.Geometry.Bytes = geometryOf(mediaRemovable, 512, 8*mib)
		d.Layout.Bytes = layoutOf(part{mib, mib, "0x0C", ""}, part{2 * mib, 6 * mib, "0x83", ""})
	})
	return &scripted{
		rights: true, held: map[string]int{}, data: map[int]*medium{3: {bytes: make([]byte, 8*mib)}},
		computer: with(one(d), volume("s", extentsOf(3, mib, mib), "FAT32", "SALTBOOT", `E:\`),
			volume("t", extentsOf(3, 2*mib, 6*mib), "", "", `F:\`)),
	}
}

func find(t *testing.T, h *Host, given string) *card.Card {
	t.Helper()
	c, err := card.Finder{Host: h}.Find(given)
	require.NoError(t, err)
	return c
}

func cause(t *testing.T, err error) guard.Reason {
	t.Helper()
	var refused *card.RefusedError
	require.ErrorAs(t, err, &refused)
	return refused.Why[0]
}

// ScriptedReader is a host with a card of 8 MiB in a reader, disk3, and tells how many of its volumes are locked. It is
// for tests outside of the package.
func ScriptedReader() (h *Host, locked func() int) {
	s := reader()
	return New(s), func() int { return len(s.locked) }
}

func TestNames(t *testing.T) {
	s := reader()
	s.network = `N:\`
	h := New(s)
	for given, key := range map[string]string{
		"disk3": "disk3", "Disk3": "disk3", "disk 3": "disk3", `\\.\PhysicalDrive3`: "disk3",
		`\\.\physicaldrive3`: "disk3", `\\?\PhysicalDrive3`: "disk3", "E:": "disk3", `\\.\e:`: "disk3", `e:\`: "disk3",
		"F:": "disk3", "C:": "disk0", "N:": "", "Q:": "", "E": "", "disk": "", "disk33333": "", `E:\x`: "",
		"a.card":    "",
		"disk3.img": "",
	} {
		assert.Equal(t, key, h.KeyOf(given), given)
	}
	assert.Equal(t, guard.System, cause(t, find(t, h, "C:").Refusal(card.Consent{Asked: true})).Cause)
	assert.NoError(t, find(t, h, "E:").Refusal(card.Consent{Asked: true}))

	encrypted := &s.computer.Volumes[len(s.computer.Volumes)-2]
	encrypted.Error, encrypted.Kind, encrypted.Label = errLocked, "", ""
	assert.Equal(t, layout.BitLocker, find(t, h, "disk3").Disk.Parts[0].FS.Kind)

	s.types = map[string]DriveType{`D:\`: DriveOptical, `R:\`: DriveMemory, `Q:\`: DriveNoRoot}
	unread := volume("g", Answer{Error: errNotReady}.Bytes, "", "", `G:\`)
	unread.Extents.Error = errNotReady
	s.computer.Volumes = append(s.computer.Volumes, unread, volume("w", append(pad(u32(2), 8),
		append(extentsOf(3, mib, mib)[8:], extentsOf(4, mib, mib)[8:]...)...), "NTFS", "W", `W:\`))
	for given, want := range map[string]guard.Reason{
		"N:": {Cause: guard.OtherHost}, "n:\\": {Cause: guard.OtherHost}, "Q:": {Cause: guard.NotThere},
		"D:": {Cause: guard.IsUnfit, Unfit: disks.Optical}, "R:": {Cause: guard.Volume, Made: disks.InMemory},
		"W:": {Cause: guard.Volume, Made: disks.Striped}, "G:": {Cause: guard.Empty},
		"S:": {Cause: guard.DiskUnknown}, // such as a letter that stands for a folder
	} {
		_, err := card.Finder{Host: h}.Find(given)
		assert.Equal(t, want, cause(t, err), given)
	}
	assert.Equal(t, []string{`C:\pagefile.sys`}, h.Swaps())

	at, err := h.Under(`N:\x`)
	if assert.NoError(t, err) {
		assert.True(t, at.Network)
	}
}

// TestVolumesAreHeld has all volumes locked and dismounted before a card is written, and until it is let go.
func TestVolumesAreHeld(t *testing.T) {
	s := reader()
	s.held[`\\?\Volume{s}`] = 3 // others look at it for a moment
	h := New(s)
	c := find(t, h, "E:")
	hold, err := c.Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{`\\?\Volume{s}`: true, `\\?\Volume{t}`: true}, s.locked)
	assert.Equal(t, 2, count(s.asked, dismountVolume))
	_, err = find(t, h, "disk3").Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
	assert.Equal(t, guard.InUse, cause(t, err).Cause, "a second run")
	assert.Len(t, s.locked, 2, "which doesn't free what the first one holds")
	pool, err := card.NewPool(1, 4096)
	require.NoError(t, err)
	defer pool.Close()
	buf, err := pool.Get(context.Background())
	require.NoError(t, err)
	_, err = hold.WriteAt(buf, mib)
	require.NoError(t, err, "within a volume that is locked")
	left := hold.LetGo(context.Background(), card.Leaving{Eject: true})
	assert.Equal(t, card.Left{Ejected: true}, left)
	assert.Equal(t, []uint32{mediaRemoval, ejectMedia}, s.asked[len(s.asked)-2:])
	assert.NotContains(t, s.asked, uint32(updateProperties), "nothing is to be seen of a card that will be taken out")
	assert.Empty(t, s.locked)

	hold, err = c.Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
	require.NoError(t, err)
	hold.LetGo(context.Background(), card.Leaving{})
	assert.Equal(t, uint32(updateProperties), s.asked[len(s.asked)-1])
}

func count(all []uint32, code uint32) (n int) {
	for _, c := range all {
		if c == code {
			n++
		}
	}
	return n
}

// TestNothingIsWrittenWhereOneVolumeCannotBeHad has one of two volumes in use, or fail in other ways.
func TestNothingIsWrittenWhereOneVolumeCannotBeHad(t *testing.T) {
	for what, c := range map[string]struct {
		change func(s *scripted)
		cause  guard.Cause
	}{
		"a program has it open": {func(s *scripted) {
			s.held[`\\?\Volume{t}`] = -1
			s.users = []guard.Program{{ID: 77, Command: "Tide Viewer", How: guard.HasOpen}}
		}, guard.InUse},
		"it can't be dismounted": {func(s *scripted) {
			s.fails = map[uint32]error{dismountVolume: number(errInvalid)}
		}, guard.NotUnmounted},
		"a volume doesn't tell where it is": {func(s *scripted) {
			s.computer.Volumes = append(s.computer.Volumes, VolumeAnswers{
				Name: `\\?\Volume{q}\`, Extents: Answer{Error: errNotSupported},
			})
		}, guard.NotUnmounted},
		"no rights": {func(s *scripted) { s.rights = false }, guard.NotUnmounted},
	} {
		s := reader()
		h := New(s)
		found := find(t, h, "disk3")
		c.change(s)
		ctx, stop := context.WithCancel(context.Background())
		_, err := found.Claim(ctx, card.Freeing{Consent: card.Consent{Asked: true}})
		stop()
		r := cause(t, err)
		assert.Equal(t, c.cause, r.Cause, what)
		assert.Equal(t, s.users, r.Programs, what)
		assert.Empty(t, s.locked, "%s: nothing stays locked", what)
		assert.False(t, slices.Contains(s.asked, ejectMedia))
	}
	s := reader()
	s.rights = false
	assert.False(t, New(s).MayWrite(disks.Disk{Path: device(3)}))
	assert.True(t, New(reader()).MayWrite(disks.Disk{Path: device(3)}))
	_, err := find(t, New(s), "disk3").OpenToCompare()
	assert.Equal(t, guard.NoRightToRead, cause(t, err).Cause)
}

// TestAnotherDiskIsNoticed has another card, or another disk under the same number, by the time that it is opened.
func TestAnotherDiskIsNoticed(t *testing.T) {
	for what, change := range map[string]func(d *DiskAnswers){
		"another card": func(d *DiskAnswers) { d.Changes.Bytes = u32(2) },
		"another size": func(d *DiskAnswers) { d.Geometry.Bytes = geometryOf(mediaRemovable, 512, 4*mib) },
		"another stick": func(d *DiskAnswers) {
			d.Descriptor.Bytes = descriptorOf(busUSB, true, "Brindle", "Card Reader", "0000002")
		},
		"no card": func(d *DiskAnswers) {
			d.Geometry, d.Changes = Answer{Error: errNotReady}, Answer{Error: errNotReady}
		},
	} {
		s := reader()
		h := New(s)
		c := find(t, h, "disk3")
		change(&s.computer.Disks[1])
		_, err := c.Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
		require.Error(t, err, what)
		_, err = h.Open(context.Background(), *c.Disk, card.ToWrite)
		require.ErrorIs(t, err, card.ErrOther, what)
		assert.Empty(t, s.locked, what)
	}
}

// TestErrorsOfAccesses has a bad place, and a card that goes.
func TestErrorsOfAccesses(t *testing.T) {
	s := reader()
	h := New(s)
	m, err := h.Open(context.Background(), *find(t, h, "disk3").Disk, card.ToWrite)
	require.NoError(t, err)
	defer m.Close()
	buf := make([]byte, 4096)
	assert.True(t, m.Present())
	for _, off := range []int64{-512, 100, 8*mib - 512, 8 * mib} {
		_, err := m.WriteAt(buf, off)
		assert.ErrorIs(t, err, fault.Misused, "%d", off)
	}
	_, err = m.ReadAt(buf[:100], 0)
	assert.ErrorIs(t, err, fault.Misused)
	s.computer.Disks[1].Geometry = Answer{Error: errNoMedia}
	assert.False(t, m.Present())
	left := h.Leave(context.Background(), disks.Disk{Name: "disk3"}, m, card.Leaving{Eject: true})
	assert.True(t, left.Ejected)
	s.fails = map[uint32]error{ejectMedia: number(errInvalid)}
	left = h.Leave(context.Background(), disks.Disk{Name: "disk3"}, m, card.Leaving{Eject: true})
	var failed *card.LeaveError
	require.ErrorAs(t, left.Problem, &failed)
	assert.Equal(t, card.Ejecting, failed.Step)
	assert.Equal(t, uint32(updateProperties), s.asked[len(s.asked)-1], "it is to be seen then")
}

// TestCardsThatComeAndGo watches a reader.
func TestCardsThatComeAndGo(t *testing.T) {
	s := reader()
	h := New(s)
	var seen []string
	ready := func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.computer.Disks[1].Geometry = Answer{Error: errNoMedia}
	}
	err := card.Finder{Host: h}.Watch(context.Background(), ready, func(c card.Change) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		what := "went"
		if c.Arrived {
			what = "came"
		}
		seen = append(seen, c.Card.Name+" "+what)
		if c.Arrived {
			return errors.New("enough")
		}
		s.computer.Disks[1].Geometry = Answer{Bytes: geometryOf(mediaRemovable, 512, 8*mib)}
		s.computer.Disks[1].Changes.Bytes = u32(2)
		return nil
	})
	require.EqualError(t, err, "enough")
	assert.Equal(t, []string{"disk3 went", "disk3 came"}, seen)
}
