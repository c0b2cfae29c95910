package view

import (
	"bytes"
	"context"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/register"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/trust"
)

// hostile is a text as a crafted file, card or archive might have it: what a terminal would obey, a new line with a
// false answer, marks that turn the order round, and bytes that are no text.
const hostile = "a\x1b[31m\r\nOVERWRITTEN: all is well\u009b2J\u202e\u2066\u200b\xff\tz"

// poison puts the hostile text into all texts of a value, however deep.
func poison(v reflect.Value, depth int) {
	if !v.CanSet() || depth > 6 {
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(hostile)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		poison(v.Elem(), depth+1)
	case reflect.Struct:
		for i := range v.NumField() {
			poison(v.Field(i), depth+1)
		}
	case reflect.Slice:
		if kind := v.Type().Elem().Kind(); kind != reflect.Uint8 && kind != reflect.Interface {
			v.Set(reflect.MakeSlice(v.Type(), 2, 2))
			for i := range 2 {
				poison(v.Index(i), depth+1)
			}
		}
	case reflect.Int64, reflect.Int:
		v.SetInt(700)
	case reflect.Float64:
		v.SetFloat(0.5)
	case reflect.Map:
		if v.Type().Elem().Kind() == reflect.String {
			v.Set(reflect.MakeMap(v.Type()))
			v.SetMapIndex(reflect.ValueOf(hostile).Convert(v.Type().Key()),
				reflect.ValueOf(hostile).Convert(v.Type().Elem()))
		}
	}
}

func poisoned[T any]() (v T) {
	poison(reflect.ValueOf(&v).Elem(), 0)
	return v
}

// TestForeignTextIsOnlyShown has every method that writes say what is hostile: nothing of it is obeyed, and it begins
// no line.
func TestForeignTextIsOnlyShown(t *testing.T) {
	refused := &card.RefusedError{
		Card: hostile,
		Why: []guard.Reason{
			{Cause: guard.NoneNamed, Name: hostile, Of: hostile},
			{
				Cause: guard.InUse, Name: hostile,
				Programs: []guard.Program{{Command: hostile, How: hostile, File: hostile}},
			},
		},
	}
	damage := &image.DamageError{Path: hostile, Packing: hostile, Err: errors.New(hostile)}
	unusable := &image.UnusableError{Path: hostile, Why: image.UnknownMethod, Name: hostile, Method: hostile}
	choice := &image.ChoiceError{Path: hostile, Members: []string{hostile, hostile}}
	sums := &digest.SumsError{Name: hostile, Why: hostile}
	disk := poisoned[disks.Disk]()
	blockCard := &card.Card{
		Given: hostile, Path: hostile, Name: hostile, Kind: card.Block, Size: 700, Model: hostile, Serial: hostile,
		Disk: &disk,
	}
	fileCard := &card.Card{
		Given: hostile, Path: hostile, Name: hostile, Kind: card.Practice, Size: 700, Model: hostile, Serial: hostile,
	}
	doc := func(change func(*receipt.Document)) receipt.Document {
		d := poisoned[receipt.Document]()
		d.Gauge, d.Recheck, d.Blank, d.Pace = nil, nil, nil, nil
		change(&d)
		return d
	}
	docs := []receipt.Document{
		doc(func(*receipt.Document) {}),
		doc(func(d *receipt.Document) {
			g := poisoned[receipt.Gauge]()
			g.Extents, d.Gauge = []gauge.Stretch{
				{Extent: layout.Extent{Length: 300}, State: hostile},
				{Extent: layout.Extent{Offset: 300, Length: 400}, State: hostile},
			}, &g
		}),
		doc(func(d *receipt.Document) { r := poisoned[receipt.Recheck](); d.Recheck = &r }),
		doc(func(d *receipt.Document) { b := poisoned[receipt.Blank](); d.Blank = &b }),
		doc(func(d *receipt.Document) { p := poisoned[receipt.Pace](); d.Pace = &p }),
	}
	contents := poisoned[layout.Disk]()
	contents.Kind, contents.Lost = layout.KindDisk, nil
	listed := Listed{
		Card: blockCard, Reasons: []guard.Reason{{Cause: guard.System, System: []disks.SystemUse{{Point: hostile}}}},
		Contents: &contents, Last: &docs[0], Tested: &docs[1],
		Remarks: []register.Remark{{What: register.MadeLater, Made: hostile}},
	}
	report := poisoned[check.Report]()
	report.Damage, report.NoImage = damage, nil
	report.Published[0].Digest, report.Published[1].Digest = digest.New(digest.SHA256, make([]byte, 32)), digest.New(
		digest.MD5, make([]byte, 16),
	)
	report.Published[0].Matched = check.Download
	report.Download, report.Image = nil, nil
	for i := range report.Slips {
		report.Slips[i].Near = digest.SHA256
	}
	for name, write := range map[string]func(*Screen){
		"receipts": func(v *Screen) {
			for _, d := range docs {
				v.Document(d, hostile)
				v.Exported(hostile, d)
			}
			v.Receipts(docs, []int{1, 2, 3, 4, 5}, 9)
			stamped := docs[0]
			stamped.Verdict = receipt.Good
			v.Document(stamped, hostile)
			v.Documents([]receipt.Document{docs[0], stamped}, []string{hostile, hostile})
		},
		"cards": func(v *Screen) {
			v.Cards([]Listed{listed, {Card: blockCard}}, true)
			v.Arrived(listed)
			v.Left(blockCard)
		},
		"the question": func(v *Screen) {
			v.ShowPlan(Plan{Cards: []Listed{listed}, Then: "x"})
			v.ShowPlan(Plan{Cards: []Listed{{Card: fileCard}, listed}})
			_, _ = v.Confirm(context.Background(), fileCard, blockCard)
			v.Gauging(fileCard)
		},
		"check": func(v *Screen) {
			v.Check(report)
			for _, err := range []error{damage, unusable, choice} {
				r := report
				r.Damage = err
				v.Check(r)
				r.Published, r.Slips, r.Wrong, r.Signatures = nil, nil, nil, nil
				v.Check(r)
				r.Other = image.Stranger{}
				v.Check(r)
				r.Wrong = []check.Unnamed{{SumsError: sums, Other: &digest.Entry{File: hostile}}}
				v.Check(r)
				v.CheckLine(hostile, r, nil)
			}
			v.CheckLine(hostile, report, errors.New(hostile))
		},
		"problems": func(v *Screen) {
			for _, err := range []error{
				refused, damage, unusable, choice, sums, &Hint{errors.New(hostile), hostile}, errors.New(hostile),
			} {
				v.Problem(err, []string{hostile, hostile})
			}
			v.Say(hostile)
		},
		"keys": func(v *Screen) {
			k := trust.Key{Format: trust.OpenPGP, ID: hostile, Fingerprint: hostile, Owner: hostile, Source: hostile}
			v.Keys(trust.Ring{k})
			v.KeyKept(k, hostile)
			v.KeyForgotten(k, hostile)
			_, _ = v.ConfirmKey(context.Background(), k)
		},
		"what is kept": func(v *Screen) {
			p := journal.Pending{
				Head: journal.Head{Card: card.Record{Name: hostile, Path: hostile, Size: 700}, Started: time.Now()},
				Path: hostile,
			}
			v.Kept([]Kept{{Pending: p, Path: hostile, Fate: journal.Fate{What: journal.PutBack}, Err: refused}}, false,
				[]string{hostile})
			v.Removed(hostile, 3)
			v.Made(hostile, 700, 600)
			v.Say(MishapSentence(hostile, card.Mishap{Op: hostile, Err: errors.New(hostile)}))
		},
		"peek": func(v *Screen) {
			v.Peek(Peeked{
				Path: hostile, Card: fileCard, Disk: contents,
				Contents: image.Contents{Packing: hostile, Member: hostile},
			})
		},
	} {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			v := NewScreen(Streams{
				Out: &out, Err: &out, Environ: []string{"LANG=C.UTF-8", "NO_COLOR=1"}, NoColor: true,
			})
			write(v)
			require.NotZero(t, out.Len())
			before := ""
			for line := range strings.Lines(out.String()) {
				line = strings.TrimSuffix(line, "\n")
				folded := strings.HasSuffix(before, `\x0a`) // the escape of a line's end just fitted
				before = line
				assert.NotContains(t, line, "\x1b[31m")
				assert.False(t, !folded && strings.HasPrefix(strings.TrimLeft(line, " "), "OVERWRITTEN: all is"),
					"a line of its own: %q", line)
				bad := strings.IndexFunc(line, func(r rune) bool {
					return r < ' ' && r != 0x1b || r >= 0x7f && r < 0xa0 || unicode.In(r, unicode.Cf, unicode.Zl,
						unicode.Zp)
				})
				assert.Negative(t, bad, "%q", line)
			}
		})
	}
}
