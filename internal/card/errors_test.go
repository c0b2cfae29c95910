package card

import (
	"errors"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
)

// failing is a card whose accesses fail, and that may be gone.
type failing struct {
	practiceMedium
	err   error
	there bool
}

func (f failing) ReadAt([]byte, int64) (int, error)  { return 0, f.err }
func (f failing) WriteAt([]byte, int64) (int, error) { return 0, f.err }
func (f failing) Flush() error                       { return f.err }
func (f failing) present() bool                      { return f.there }

// TestErrorsTellAFailedCardFromOneThatIsGone has what the kernel says in each case: a card that is pulled out gives
// EIO too, and is known by not being there any more.
func TestErrorsTellAFailedCardFromOneThatIsGone(t *testing.T) {
	for _, c := range []struct {
		err   error
		there bool
		gone  bool
	}{
		{syscall.EIO, true, false},
		{syscall.EIO, false, true},
		{syscall.ENODEV, true, true},
		{syscall.ENXIO, true, true},
		{syscall.EROFS, true, false},
		{syscall.ENOSPC, true, false},
	} {
		d := guarded{failing{err: c.err, there: c.there}, "/dev/sdx"}
		_, readErr := d.ReadAt(nil, 4096)
		_, writeErr := d.WriteAt(nil, 4096)
		for op, err := range map[string]error{"read": readErr, "write": writeErr, "flush": d.Flush()} {
			require.ErrorIs(t, err, c.err)
			var failed *IOError
			assert.Equal(t, c.gone, errors.As(err, new(*GoneError)), "%s: %v", op, err)
			if assert.Equal(t, !c.gone, errors.As(err, &failed)) && !c.gone {
				assert.Equal(t, []string{op, "/dev/sdx"}, []string{failed.Op, failed.Card})
			}
		}
	}
	assert.NoError(t, guarded{failing{there: true}, "x"}.Flush())
}

func TestOpeningSaysWhyNot(t *testing.T) {
	c := &Card{Given: "/dev/sdx"}
	for err, want := range map[error]string{
		syscall.EBUSY: "another program is working on it", syscall.EACCES: "no permission", syscall.EROFS: "write-protected", syscall.EINVAL: "invalid argument",
	} {
		refused := c.refusedOpen(err)
		assert.ErrorContains(t, refused, want)
		assert.ErrorIs(t, refused, err)
	}
	path := t.TempDir() + "/x"
	require.NoError(t, practice.Create(path, practice.Spec{Claimed: 1 << 20, Backing: "x.data"}))
	found, err := Find(path)
	require.NoError(t, err)
	assert.True(t, found.Is(path))
	assert.True(t, found.Is(path+".data"), "what keeps a practice card's contents is the card too")
	assert.False(t, found.Is("/dev/null"))
}
