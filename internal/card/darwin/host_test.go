package darwin

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
)

const mib = 1 << 20

// scripted is a Mac that answers from a Computer, and whose disk4 is in memory.
type scripted struct {
	mu       sync.Mutex
	computer Computer
	rights   bool
	says     map[string]string // what a command of diskutil fails with
	ran      []string
	bytes    []byte
	alone    int
	gone     bool
}

func (s *scripted) Diskutil(_ context.Context, words ...string) (out, errs []byte, err error) {
	switch words[0] {
	case "list":
		return []byte(s.computer.List), nil, nil
	case "info":
		return []byte(s.computer.Info[words[2]]), nil, nil
	}
	s.ran = append(s.ran, strings.Join(words, " "))
	if said, ok := s.says[words[0]]; ok {
		return nil, []byte(said), errors.New("exit status 1")
	}
	return nil, nil, nil
}

func (s *scripted) Since(path string) int64 {
	return s.computer.Since[strings.TrimPrefix(path, "/dev/")]
}

func (s *scripted) MayWrite(string) bool { return s.rights }

func (s *scripted) On(path string) (Mounted, error) {
	switch {
	case strings.HasPrefix(path, "/Volumes/SALTBOOT"):
		return Mounted{"/dev/disk4s1", "/Volumes/SALTBOOT", "msdos", true}, nil
	case strings.HasPrefix(path, "/Volumes/harbour"):
		return Mounted{"//harbour/x", "/Volumes/harbour", "smbfs", false}, nil
	}
	return Mounted{"/dev/disk3s5", "/System/Volumes/Data", "apfs", true}, nil
}

func (s *scripted) Uses() ([]Use, error) { return s.computer.Used, nil }

func (s *scripted) Name(id int) string { return map[int]string{77: "mds"}[id] }

func (s *scripted) Open(path string, write bool) (Raw, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case path != "/dev/rdisk4" || s.gone:
		return nil, os.ErrNotExist
	case !s.rights:
		return nil, fault.NoRights.Because(errors.New("operation not permitted"))
	case write && s.alone > 0:
		return nil, fault.Busy.Because(errors.New("resource busy"))
	case write:
		s.alone++
	}
	return &rawDisk{s, write}, nil
}

// rawDisk is the raw device of disk4.
type rawDisk struct {
	s     *scripted
	alone bool
}

func (r *rawDisk) Size() (int64, int, error) {
	if r.s.gone {
		return 0, 0, fault.Gone
	}
	return int64(len(r.s.bytes)), 512, nil
}

func (r *rawDisk) ReadAt(p []byte, off int64) (int, error) {
	r.s.mu.Lock()
	defer r.s.mu.Unlock()
	if r.s.gone {
		return 0, io.EOF
	}
	return copy(p, r.s.bytes[off:]), nil
}

func (r *rawDisk) WriteAt(p []byte, off int64) (int, error) {
	r.s.mu.Lock()
	defer r.s.mu.Unlock()
	if r.s.gone {
		return 0, fault.Gone
	}
	return copy(r.s.bytes[off:], p), nil
}

func (r *rawDisk) Flush() error { return nil }

func (r *rawDisk) Close() error {
	r.s.mu.Lock()
	defer r.s.mu.Unlock()
	if r.alone {
		r.s.alone--
	}
	return nil
}

// ScriptedReader is a host with a card of 8 MiB in a reader, disk4, for tests outside of the package.
func ScriptedReader() Host { return New(reader()) }

func reader() *scripted {
	return &scripted{rights: true, bytes: make([]byte, 8*mib), computer: card4("USB", also(removable, dict{
		"TotalSize": 8 * mib, "Size": 8 * mib,
	}), saltboot)}
}

func find(t *testing.T, h Host, given string) *card.Card {
	t.Helper()
	c, err := card.Finder{Host: h}.Find(given)
	require.NoError(t, err)
	return c
}

func TestNames(t *testing.T) {
	h := New(reader())
	for given, key := range map[string]string{
		"disk4": "disk4", "/dev/disk4": "disk4", "/dev/rdisk4": "disk4", "rdisk4": "disk4", "disk4s1": "disk4s1",
		"/dev/rdisk4s1": "disk4s1", "disk": "", "/dev/disk": "", "disk4.img": "", "/Volumes/SALTBOOT": "",
	} {
		assert.Equal(t, key, h.KeyOf(given), given)
	}
	_, err := card.Finder{Host: h}.Find("/dev/rdisk4s1")
	var refused *card.RefusedError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, []any{guard.IsPart, "/dev/disk4"}, []any{refused.Why[0].Cause, refused.Why[0].Of})
	found, err := card.Finder{Host: h}.Find("label:saltboot")
	require.NoError(t, err)
	assert.Equal(t, "disk4", found.Name)

	for path, want := range map[string]card.Standing{
		"/Volumes/SALTBOOT/x": {Point: "/Volumes/SALTBOOT", Kind: "msdos"},
		"/Volumes/harbour/x":  {Point: "/Volumes/harbour", Kind: "smbfs", Network: true},
	} {
		at, err := h.Under(path)
		require.NoError(t, err)
		at.Present = nil
		assert.Equal(t, want, at)
	}
	on, _, err := card.Finder{Host: h}.Under("/Volumes/SALTBOOT/x")
	require.NoError(t, err)
	assert.Equal(t, "disk4", on.Name)
}

// TestCardIsFreedAndEjected unmounts a card before it is opened, and ejects it after it was closed.
func TestCardIsFreedAndEjected(t *testing.T) {
	s := reader()
	c := find(t, New(s), "/dev/rdisk4")
	hold, err := c.Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
	require.NoError(t, err)
	assert.Equal(t, []string{"unmountDisk disk4"}, s.ran)
	left := hold.LetGo(context.Background(), card.Leaving{Eject: true})
	assert.Equal(t, card.Left{Ejected: true}, left)
	assert.Equal(t, []string{"unmountDisk disk4", "eject disk4"}, s.ran)
	assert.Zero(t, s.alone)

	s.says = map[string]string{"eject": "Volume failed to eject\n"}
	hold, err = c.Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
	require.NoError(t, err)
	left = hold.LetGo(context.Background(), card.Leaving{Eject: true})
	require.ErrorContains(t, left.Problem, "Volume failed to eject")
}

// TestCardsThatCannotBeHad are refused with what the system says of them.
func TestCardsThatCannotBeHad(t *testing.T) {
	for what, c := range map[string]struct {
		change   func(s *scripted)
		cause    guard.Cause
		programs []guard.Program
	}{
		"a program that dissents": {func(s *scripted) {
			s.says = map[string]string{"unmountDisk": "Unmount of disk4 failed: at least one volume could not be " +
				"unmounted\n" +
				"Unmount was dissented by PID 812 (/Applications/Tides.app/Contents/MacOS/Tides)\nDissenter parent " +
				"PPID 1\n"}
		}, guard.InUse, []guard.Program{{ID: 812, Command: "Tides", How: guard.HasOpen}}},
		"one that is not named": {func(s *scripted) {
			s.says = map[string]string{"unmountDisk": "Unmount was dissented by PID 77\n"}
		}, guard.InUse, []guard.Program{{ID: 77, Command: "mds", How: guard.HasOpen}}},
		"no reason": {func(s *scripted) {
			s.says = map[string]string{"unmountDisk": ""}
		}, guard.NotUnmounted, nil},
		"no rights":          {func(s *scripted) { s.rights = false }, guard.NoRights, nil},
		"another run has it": {func(s *scripted) { s.alone = 1 }, guard.Busy, nil},
	} {
		s := reader()
		found := find(t, New(s), "disk4")
		c.change(s)
		_, err := found.Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
		var refused *card.RefusedError
		require.ErrorAs(t, err, &refused, what)
		assert.Equal(t, c.cause, refused.Why[0].Cause, what)
		assert.Equal(t, c.programs, refused.Why[0].Programs, what)
	}
}

// TestAnotherDiskIsNoticed has another card under the same name by the time that it is opened.
func TestAnotherDiskIsNoticed(t *testing.T) {
	s := reader()
	c := find(t, New(s), "disk4")
	s.computer.Since["disk4"] = 8
	_, err := c.Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
	var refused *card.RefusedError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, guard.PutInAgain, refused.Why[0].Cause)
	_, err = New(s).Open(context.Background(), *c.Disk, card.ToWrite)
	require.ErrorIs(t, err, card.ErrOther)

	s = reader()
	c = find(t, New(s), "disk4")
	s.bytes = s.bytes[:4*mib]
	_, err = New(s).Open(context.Background(), *c.Disk, card.ToWrite)
	require.ErrorIs(t, err, card.ErrOther)
	assert.Zero(t, s.alone)
}

func TestCardThatGoes(t *testing.T) {
	s := reader()
	m, err := New(s).Open(context.Background(), *find(t, New(s), "disk4").Disk, card.ToWrite)
	require.NoError(t, err)
	defer m.Close()
	assert.True(t, m.Present())
	s.gone = true
	assert.False(t, m.Present())
	_, err = m.ReadAt(make([]byte, 512), 0)
	require.ErrorIs(t, err, fault.Gone)
	_, err = m.WriteAt(make([]byte, 512), 0)
	require.ErrorIs(t, err, fault.Gone)
	_, err = m.WriteAt(make([]byte, 500), 0)
	require.ErrorIs(t, err, fault.Misused)
	assert.Equal(t, card.Left{}, New(s).Leave(context.Background(), disks.Disk{Name: "disk4"}, m, card.Leaving{}))
}
