package card_test

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/testbed"
)

// failing is a medium whose accesses fail, and that may be gone.
type failing struct {
	card.Medium
	err   error
	there bool
}

func (f failing) ReadAt([]byte, int64) (int, error)  { return 0, f.err }
func (f failing) WriteAt([]byte, int64) (int, error) { return 0, f.err }
func (f failing) Flush() error                       { return f.err }
func (f failing) Present() bool                      { return f.there }

// TestErrorsTellAFailedCardFromOneThatIsGone has each kind of error: a card that is pulled out may fail like one with
// bad places, and is known by not being there any more.
func TestErrorsTellAFailedCardFromOneThatIsGone(t *testing.T) {
	for _, c := range []struct {
		err   fault.Fault
		there bool
		gone  bool
	}{
		{fault.BadPlace, true, false},
		{fault.BadPlace, false, true},
		{fault.Gone, true, true},
		{fault.NoMedium, true, true},
		{fault.Locked, true, false},
		{fault.Full, true, false},
	} {
		system := errors.New("what the system says")
		d := card.Named(failing{err: c.err.Because(system), there: c.there}, "sdx")
		_, readErr := d.ReadAt(nil, 4096)
		_, writeErr := d.WriteAt(nil, 4096)
		for op, err := range map[string]error{"read": readErr, "write": writeErr, "flush": d.Flush()} {
			require.ErrorIs(t, err, c.err)
			require.ErrorIs(t, err, system)
			var failed *card.IOError
			assert.Equal(t, c.gone, errors.As(err, new(*card.GoneError)), "%s: %v", op, err)
			assert.Equal(t, c.err == fault.BadPlace && !c.gone, card.IsBadPlace(err))
			if assert.Equal(t, !c.gone, errors.As(err, &failed)) && !c.gone {
				assert.Equal(t, []string{op, "sdx"}, []string{failed.Op, failed.Card})
			}
		}
	}
	assert.NoError(t, card.Named(failing{there: true}, "x").Flush())
}

// unopened is a card that can't be opened.
type unopened struct{ err error }

func (u unopened) Open(context.Context, card.Mode) (card.Medium, error) { return nil, u.err }

func TestOpeningSaysWhyNot(t *testing.T) {
	path := testbed.Sparse(t, filepath.Join(t.TempDir(), "x"), 1<<20)
	odd := errors.New("odd")
	for err, want := range map[error]guard.Cause{
		fault.Busy: guard.Busy, fault.NoRights: guard.NoRights, fault.Locked: guard.LockedFile,
		fault.NoMedium: guard.Empty, card.ErrOther: guard.PutInAgain, odd: guard.SystemSays,
	} {
		kind := func(string, fs.FileInfo) (*card.File, error) {
			return &card.File{Source: unopened{err}, Size: 1 << 20}, nil
		}
		c, found := card.Finder{Host: card.Unsupported{}, Kinds: []card.FileKind{kind}}.Find(path)
		require.NoError(t, found)
		_, failed := c.Open()
		var refused *card.RefusedError
		require.ErrorAs(t, failed, &refused)
		assert.True(t, refused.For(want), "%v", refused)
		assert.ErrorIs(t, failed, err)
	}
	c, data := cardtest.Make(t, t.TempDir(), practice.Spec{Claimed: 1 << 20}, nil)
	assert.True(t, c.Is(c.Path))
	assert.True(t, c.Is(data), "what keeps a practice card's contents is the card too")
	assert.False(t, c.Is(path))
}
