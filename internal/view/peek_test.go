package view

import (
	"bytes"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"zipstamp/internal/card"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
)

// peekedCard is a card with a GPT, whose last partition goes on beyond its end.
func peekedCard() Peeked {
	var boards []string
	for _, letter := range "abcdefghijklmnop" {
		boards = append(boards, "brindle-"+string(letter))
	}
	return Peeked{
		Path: "/dev/sdx",
		Card: &card.Card{Name: "sdx", Kind: card.Block, Size: 8e9, Model: "Brindle Club 8"},
		Disk: layout.Disk{
			Kind: layout.KindDisk,
			Table: layout.Table{
				Scheme: layout.SchemeGPT, Sector: 4096,
				Parts:  []layout.Part{{Number: 1, Start: 1 << 20, Length: 64e6}, {Number: 2, Start: 66e6, Length: 8e9}},
				Damage: layout.TableDamage{What: layout.HeaderCheck},
			},
			Parts: []layout.Content{
				{
					Part:       layout.Part{Number: 1, Start: 1 << 20, Length: 64e6, Type: "EFI system", Name: "boot"},
					FileSystem: layout.FileSystem{Kind: "FAT32", Label: "EVIL\x1b[2J\n  file"},
				},
				{
					Part:       layout.Part{Number: 2, Start: 66e6, Length: 8e9, Type: "Linux"},
					FileSystem: layout.FileSystem{Kind: "ext4", Label: "tides"},
				},
			},
			Boot: &layout.Boot{
				Files: 30, Bytes: 5e6, Largest: []string{"a", "b", "c", "\u202etxt.exe"}, Boards: boards,
				Damage: "read folder /x: input/output error", Kernels: []layout.Kernel{
					{Path: "k64", Processor: "64-bit ARM"}, {Path: "k32", Processor: "32-bit ARM"},
				},
			},
			BootOn: 1,
		},
	}
}

func TestPeekShowsACard(t *testing.T) {
	for _, width := range []int{40, 80, 100} {
		var out bytes.Buffer
		v := &Screen{Out: &result{w: &out}, width: width}
		v.Peek(peekedCard())
		text := ansi.Strip(out.String())
		for _, line := range strings.Split(text, "\n") {
			assert.LessOrEqual(t, ansi.StringWidth(line), width, line)
		}
		flat := strings.Join(strings.Fields(text), " ")
		for _, says := range []string{
			"sdx has 2 partitions, for 32-bit ARM and 64-bit ARM.", "GPT, in sectors of 4096 bytes",
			"FAT32 (table: EFI system)", "ext4 (table: Linux), label", "30 files, 5.00 MB, on partition 1",
			"and smaller ones", "brindle-a, brindle-b", "and 4 more", "the GPT header's CRC32 is wrong",
			"beyond the card's end", "not all of the boot files could be read",
		} {
			assert.Contains(t, flat, says)
		}
		assert.NotContains(t, out.String(), "\x1b[2J", "a label is no command to the terminal")
		assert.NotContains(t, text, "\u202e")
		assert.NotContains(t, text, "\n  file", "nor a line of the result")
	}
}

func TestPeekSentences(t *testing.T) {
	for sentence, d := range map[string]layout.Disk{
		"sdx is blank: it starts with zeros.": {
			Kind: layout.KindBlank,
		},
		"sdx starts with no known partition table or file system.": {
			Kind: layout.KindUnknown,
		},
		"sdx is a single file system (exFAT) without a partition table.": {
			Kind: layout.KindFileSystem, Whole: layout.FileSystem{Kind: "exFAT"},
		},
		"sdx is an installer or live disc (ISO hybrid): it can be stamped, and starts computers, not boards.": {
			Kind: layout.KindDisc,
		},
		"sdx is an optical disc without a partition table: nothing starts from a card that holds it.": {
			Kind: layout.KindPlainDisc,
		},
		"sdx has 1 partition.": {Kind: layout.KindDisk, Parts: make([]layout.Content, 1)},
	} {
		assert.Equal(t, sentence, PeekSentence(Peeked{Card: &card.Card{Name: "sdx"}, Disk: d}))
	}
}

func TestSmallestCard(t *testing.T) {
	for bytes, card := range map[int64]int64{0: 0, 1: 64e6, 60e6: 64e6, 61e6: 128e6, 7.5e9: 8e9, 7.7e9: 16e9, 3e12: 0} {
		assert.Equal(t, card, SmallestCard(bytes))
	}
	p := Peeked{
		Contents: image.Contents{Size: image.Size{Bytes: 5, Certainty: image.AtLeast}},
		Disk:     layout.Disk{Table: layout.Table{Parts: []layout.Part{{Start: 1000, Length: 500}}}},
	}
	assert.EqualValues(t, 1500, p.Needs(), "what the table says counts where the packing says less")
}

func TestDamageSaysHowMuchIsThere(t *testing.T) {
	e := &image.DamageError{
		Path: "a/os.7z", At: 3e6, Truncated: true, Total: image.Size{Bytes: 10e6, Certainty: image.Exact},
	}
	assert.Equal(t, "os.7z is cut short: it has 3.00 MB of 10.0 MB, so the download was not complete.",
		ProblemSentence(e))
	e.Total.Certainty = image.AtLeast
	assert.Contains(t, ProblemSentence(e), "it has 3.00 MB of at least 10.0 MB")
	e.Path = "-"
	assert.Contains(t, ProblemSentence(e), "standard input is cut short")
}
