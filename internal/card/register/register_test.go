package register_test

import (
	"encoding/hex"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card/register"
)

var now = time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)

func TestCID(t *testing.T) {
	for _, c := range []struct {
		what, text string
		want       register.CID
		made       string
		remarks    []register.Remark
	}{
		{
			"a sound card, with its CRC", "27534d42524e444c3010a1b2c3010188",
			register.CID{
				Maker: 0x27, OEM: "SM", Product: "BRNDL", Revision: "3.0", Serial: 0x10a1b2c3, Year: 2016, Month: 1,
			},
			"January 2016",
			[]register.Remark{{What: register.WrongCheck}},
		},
		{
			"the controller keeps the CRC to itself", "27534d42524e444c3010a1b2c3018400",
			register.CID{
				Maker: 0x27, OEM: "SM", Product: "BRNDL", Revision: "3.0", Serial: 0x10a1b2c3, Year: 2024, Month: 4,
			},
			"April 2024", nil,
		},
		{
			"made tomorrow", "27534d42524e444c3010a1b2c301ac00",
			register.CID{
				Maker: 0x27, OEM: "SM", Product: "BRNDL", Revision: "3.0", Serial: 0x10a1b2c3, Year: 2026, Month: 12,
			},
			"December 2026",
			[]register.Remark{{What: register.MadeLater, Made: "December 2026"}},
		},
		{
			"nobody's", "00000042000000001000000000000d00",
			register.CID{OEM: "", Product: "B", Revision: "1.0", Year: 2000, Month: 13},
			"",
			[]register.Remark{{What: register.NoMaker}, {What: register.NoSerial}, {What: register.NoMonth, Says: 13}},
		},
	} {
		got, err := register.ParseCID(c.text)
		require.NoError(t, err, c.what)
		assert.Equal(t, c.remarks, got.Remarks(now), c.what)
		assert.Equal(t, c.made, got.Made(), c.what)
		assert.Equal(t, []any{
			c.want.Maker, c.want.OEM, c.want.Product, c.want.Revision, c.want.Serial, c.want.Year, c.want.Month,
		},
			[]any{got.Maker, got.OEM, got.Product, got.Revision, got.Serial, got.Year, got.Month}, c.what)
	}
	zeros := strings.Repeat("00", 15)
	for _, empty := range []string{zeros + "00", strings.Repeat("ff", 16), zeros + "01"} {
		got, err := register.ParseCID(empty)
		require.NoError(t, err)
		assert.Equal(t, []register.Remark{{What: register.NoCID}}, got.Remarks(now), empty)
	}
	// The specification's own example of a CRC7 (section 4.5): CMD0 with a zero argument has 0x4a.
	sound, err := register.ParseCID("40000000000000000000000000000000")
	require.NoError(t, err)
	assert.NotContains(t, sound.Remarks(now), register.Remark{What: register.WrongCheck})
}

// TestOneWrongBitOfACIDIsSeen holds for a CRC of 7 bits, for any bit.
func TestOneWrongBitOfACIDIsSeen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, "register")
		var right []byte
		for check := range 128 { // exactly one check value fits; a zero byte means that it was left out
			b[15] = byte(check<<1 | 1)
			c, err := register.ParseCID(hex.EncodeToString(b))
			require.NoError(t, err)
			if remarks := c.Remarks(now); !slices.Contains(remarks, register.Remark{What: register.WrongCheck}) &&
				!slices.Contains(remarks, register.Remark{What: register.NoCID}) {
				require.Nil(t, right)
				right = append([]byte(nil), b...)
			}
		}
		if right == nil {
			return // all bits the same
		}
		bit := rapid.IntRange(0, 119).Draw(t, "bit")
		right[bit/8] ^= 1 << (bit % 8)
		c, err := register.ParseCID(hex.EncodeToString(right))
		require.NoError(t, err)
		assert.NotEmpty(t, c.Remarks(now))
	})
}

func TestOtherRegisters(t *testing.T) {
	// 32 GB: C_SIZE 0x00edc7 + 1 units of 512 KiB; the same bits in version 3, and write-protected.
	got, err := register.ParseCSD("400e00325b590000edc77f800a400000")
	require.NoError(t, err)
	assert.Equal(t, int64(0xedc8<<19), got.Size)
	got, err = register.ParseCSD("800e00325b59000fedc77f800a401000")
	require.NoError(t, err)
	assert.Equal(t, register.CSD{Size: 0xfedc8 << 19, Family: "SDUC", Protected: true}, got)
	// 2 GB in version 1: (3839+1) * 2^(7+2) blocks of 2^10 bytes.
	got, err = register.ParseCSD("002600325b5a83bfffffff80168000e7")
	require.NoError(t, err)
	assert.Equal(t, int64((0xeff+1)<<9<<10), got.Size)

	for text, want := range map[string]string{
		"00a5000000000000": "1.0", "0125000000000000": "1.1", "0235000000000000": "2.0",
		"0235800000000000": "3.0", "0235840000000000": "4", "0235844000000000": "5", "0235850000000000": "8",
	} {
		spec, err := register.SpecOf(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, spec, text)
	}

	status := make([]byte, 64)
	status[8], status[14], status[15], status[21] = 4, 0x30, 30, 2
	marks, err := register.Marks(hex.EncodeToString(status))
	require.NoError(t, err)
	assert.Equal(t, []string{"Class 10", "U3", "V30", "A2"}, marks)
	marks, err = register.Marks(strings.Repeat("0", 128))
	require.NoError(t, err)
	assert.Empty(t, marks)
}

func TestRemarksOfSizes(t *testing.T) {
	regs := map[string]string{"cid": "27534d42524e444c3010a1b2c3018400", "csd": "400e00325b590000edc77f800a400000"}
	s, ok := register.Read(func(name string) string { return regs[name] })
	require.True(t, ok)
	assert.Empty(t, s.Remarks(0xedc8<<19, now))
	assert.Equal(t, []register.Remark{{What: register.OtherLength, Says: 31914459136, Is: 2000398934016}},
		s.Remarks(int64(2000398934016), now))
	_, ok = register.Read(func(string) string { return "" })
	assert.False(t, ok)
}

func FuzzRegisters(f *testing.F) {
	f.Add("27534d42524e444c3010a1b2c3018400")
	f.Add("0235800000000000")
	f.Fuzz(func(t *testing.T, text string) {
		s, ok := register.Read(func(string) string { return text })
		if ok {
			assert.Len(t, strings.TrimSpace(text), 32)
			assert.GreaterOrEqual(t, s.CSD.Size, int64(0))
		}
		for _, m := range []string{text, strings.Repeat(text, 4)} {
			marks, _ := register.Marks(m)
			assert.LessOrEqual(t, len(marks), 4)
		}
	})
}
