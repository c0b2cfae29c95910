package mark

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func nonce(n uint64) (out Nonce) {
	binary.LittleEndian.PutUint64(out[:], n)
	binary.LittleEndian.PutUint64(out[8:], ^n)
	return out
}

func TestStampsTellWhoTheyAre(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		run, earlier := NewRun(nonce(rapid.Uint64().Draw(t, "nonce"))), NewRun(nonce(rapid.Uint64().Draw(t, "earlier")))
		first := rapid.Int64Range(0, 1<<40).Draw(t, "first")
		count := rapid.IntRange(1, 9).Draw(t, "count")
		p := make([]byte, count*Size)
		run.Fill(p, first)
		require.Equal(t, count, run.Right(p, first))
		require.Equal(t, []byte("SaltMark"), p[:8])

		wrong := rapid.IntRange(0, count-1).Draw(t, "wrong")
		s := p[wrong*Size:][:Size]
		own := first + int64(wrong)
		other := own + rapid.Int64Range(1, 1<<40).Draw(t, "distance")
		switch rapid.IntRange(0, 5).Draw(t, "what") {
		case 0:
			flipped := map[int]bool{}
			for range rapid.IntRange(1, 40).Draw(t, "flips") {
				flipped[rapid.IntRange(0, 8*Size-1).Draw(t, "bit")] = true
			}
			for bit := range flipped {
				s[bit/8] ^= 1 << (bit % 8)
			}
			require.Equal(t, Reading{Kind: Worn, Bits: len(flipped)}, run.Judge(s, own))
		case 1:
			run.Fill(s, other)
			require.Equal(t, Reading{Kind: Elsewhere, Of: other}, run.Judge(s, own))
			s[200] ^= 1 // also when it is a little worn
			require.Equal(t, Reading{Kind: Elsewhere, Of: other}, run.Judge(s, own))
		case 2:
			earlier.Fill(s, own)
			want := Reading{Kind: Earlier, Of: own, Nonce: earlier.Nonce()}
			if earlier == run {
				want = Reading{}
			}
			require.Equal(t, want, run.Judge(s, own))
			if earlier == run {
				return
			}
		case 3:
			b := rapid.Byte().Draw(t, "byte")
			copy(s, bytes.Repeat([]byte{b}, Size))
			require.Equal(t, Reading{Kind: Blank, Byte: b}, run.Judge(s, own))
		case 4:
			copy(s, rapid.SliceOfN(rapid.Byte(), Size, Size).Draw(t, "noise"))
			s[0], s[1] = 1, 2 // not blank
			require.Equal(t, Reading{Kind: Foreign}, run.Judge(s, own))
		case 5: // a write that was torn in two: half of it is not it
			clear(s[Size/2:])
			require.Equal(t, Foreign, run.Judge(s, own).Kind)
		}
		require.Equal(t, wrong, run.Right(p, first), "counted up to the wrong one")
	})
}

func TestStampsAreAllDifferent(t *testing.T) {
	run := NewRun(nonce(7))
	p := make([]byte, 1<<20)
	run.Fill(p, 1<<31)
	seen := map[string]bool{}
	for i := keystream * 8; i+8 <= len(p); i += 8 {
		if in := i % Size; in >= keystream*8 && in < last*8 {
			word := string(p[i : i+8])
			assert.False(t, seen[word], "a word came twice")
			seen[word] = true
		}
	}
	ones := 0
	for _, b := range p {
		for ; b != 0; b &= b - 1 {
			ones++
		}
	}
	assert.InDelta(t, 0.5, float64(ones)/float64(8*len(p)), 0.01)
}

func TestNonceAsText(t *testing.T) {
	text, err := nonce(99).MarshalText()
	require.NoError(t, err)
	var back Nonce
	require.NoError(t, back.UnmarshalText(text))
	assert.Equal(t, nonce(99), back)
	assert.Error(t, back.UnmarshalText([]byte("12")))
	assert.Error(t, back.UnmarshalText([]byte("zz")))
}

func BenchmarkFill(b *testing.B) {
	p := make([]byte, 4<<20)
	run := NewRun(nonce(1))
	b.SetBytes(int64(len(p)))
	for b.Loop() {
		run.Fill(p, 12345)
	}
}

func BenchmarkRight(b *testing.B) {
	p := make([]byte, 4<<20)
	run := NewRun(nonce(1))
	run.Fill(p, 12345)
	b.SetBytes(int64(len(p)))
	for b.Loop() {
		if run.Right(p, 12345) != len(p)/Size {
			b.Fatal("wrong")
		}
	}
}
