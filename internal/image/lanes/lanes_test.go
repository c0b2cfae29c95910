package lanes

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// TestPartsComeInTheirOrder has parts of both kinds, done in any order, with more memory asked for than there is.
func TestPartsComeInTheirOrder(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	for lanes := 1; lanes <= 5; lanes++ {
		var want bytes.Buffer
		passed, done := 0, 0
		r := New(lanes, 1000, func(f *Feeder) error {
			for i := range 60 {
				part := bytes.Repeat([]byte{byte(i)}, random.IntN(3*PieceSize))
				want.Write(part)
				wait := time.Duration(random.IntN(2000)) * time.Microsecond
				p := Part{Pass: func(p []byte) { passed += len(p) }, Done: func() error { done++; return nil }}
				var err error
				if i%3 == 0 {
					p.Work = func(o *Out) error { _, err := o.Write(part); return err }
					err = f.Here(1500, p)
				} else {
					p.Work = func(o *Out) error {
						time.Sleep(wait)
						half := len(part) / 2
						return errors.Join(o.Give(part[:half]), o.Give(part[half:]))
					}
					err = f.Beside(400, 2, p)
				}
				if err != nil {
					return err
				}
			}
			return nil
		})
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want.Bytes(), got))
		assert.Equal(t, []int{want.Len(), 60}, []int{passed, done})
		require.NoError(t, r.Close())
	}
}

func TestErrorsComeAfterWhatWasBeforeThem(t *testing.T) {
	broken := errors.New("broken")
	give := Part{Work: func(o *Out) error { return o.Give([]byte("tide")) }}
	for what, feed := range map[string]func(f *Feeder) error{
		"of the feeder": func(f *Feeder) error { return errors.Join(f.Beside(1, 1, give), broken) },
		"of a part": func(f *Feeder) error {
			return errors.Join(f.Beside(1, 1, give), f.Beside(1, 1, Part{Work: func(*Out) error { return broken }}),
				f.Beside(1, 1, give), f.Beside(1, 1, give))
		},
		"of a part's end": func(f *Feeder) error {
			return f.Beside(1, 1, Part{Work: give.Work, Done: func() error { return broken }})
		},
		"of a part of the feeder's": func(f *Feeder) error {
			return f.Here(1, Part{Work: func(o *Out) error { _, _ = o.Write([]byte("tide")); return broken }})
		},
	} {
		r := New(2, 10, feed)
		got, err := io.ReadAll(r)
		assert.ErrorIs(t, err, broken, what)
		assert.Equal(t, "tide", string(got), what)
		_, again := r.Read(make([]byte, 1))
		assert.ErrorIs(t, again, broken, "and again")
	}
}

func TestCloseEndsAll(t *testing.T) {
	r := New(3, 10, func(f *Feeder) error {
		for {
			if err := f.Beside(1, 1, Part{Work: func(o *Out) error { return o.Give(make([]byte, 10)) }}); err != nil {
				return err
			}
			if err := f.Here(1, Part{
				Work: func(o *Out) error { _, err := o.Write(make([]byte, 20*PieceSize)); return err },
			}); err != nil {
				return err
			}
		}
	})
	_, err := r.Read(make([]byte, 5))
	require.NoError(t, err)
	require.NoError(t, r.Close()) // TestMain sees that nothing is left
}
