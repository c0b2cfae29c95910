package view

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"zipstamp/internal/trust"
)

// confirmDigits is how much of a fingerprint is typed in: enough that a person has to look at it.
const confirmDigits = 8

// ConfirmKey shows a key, and asks for the end of its fingerprint.
func (v *Screen) ConfirmKey(ctx context.Context, k trust.Key) (bool, error) {
	v.showKey(v.Err, v.errWidth, k,
		"Compare this fingerprint with one that the publisher shows somewhere else than beside the key:")
	typed, err := v.ask(ctx, fmt.Sprintf("Type its last %d characters to keep the key, anything else to leave it:",
		confirmDigits))
	typed = strings.ReplaceAll(typed, " ", "")
	if k.Format == trust.OpenPGP {
		typed = strings.ToUpper(typed)
	}
	return len(typed) == confirmDigits && strings.HasSuffix(k.Fingerprint, typed), err
}

// KeyKept says that a key is kept.
func (v *Screen) KeyKept(k trust.Key, path string) {
	k.Source = path
	v.showKey(v.Out, v.width, k, KeyKeptSentence(k))
}

// KeyKeptSentence is the answer of keeping a key.
func KeyKeptSentence(k trust.Key) string {
	return fmt.Sprintf("The key %s is kept: what it signs counts from now on.", word(k.ID))
}

// KeyForgottenSentence is the answer of forgetting a key.
func KeyForgottenSentence(k trust.Key) string {
	return fmt.Sprintf("The key %s is forgotten: what it signs counts for nothing.", word(k.ID))
}

// KeysSentence is the answer of a list of so many keys.
func KeysSentence(n int) string {
	if n == 0 {
		return "You keep no keys. To keep one: zipstamp keys add FILE"
	}
	return fmt.Sprintf("You keep %s.", Count(n, "key"))
}

// KeyForgotten says that a key is kept no more.
func (v *Screen) KeyForgotten(k trust.Key, path string) {
	k.Source = path
	v.showKey(v.Out, v.width, k, KeyForgottenSentence(k))
}

// Keys lists keys.
func (v *Screen) Keys(keys trust.Ring) {
	if len(keys) == 0 {
		fmt.Fprintln(v.Out, KeysSentence(0))
		return
	}
	for _, k := range keys {
		v.showKey(v.Out, v.width, k, fmt.Sprintf("%s (%s)", word(k.Owner), k.Format))
	}
}

func (v *Screen) showKey(w io.Writer, width int, k trust.Key, sentence string) {
	a := &answer{style: strong, sentence: sentence}
	if !strings.HasPrefix(sentence, word(k.Owner)) {
		a.add("owner", "%s, as the key says (%s)", word(k.Owner), k.Format)
	}
	a.add("ID", "%s", word(k.ID))
	if k.Format == trust.OpenPGP {
		a.add("fingerprint", "%s", word(inFours(k.Fingerprint)))
	} else {
		a.add("key", "%s", word(k.Fingerprint))
	}
	a.add("file", "%s", word(k.Source))
	a.print(w, width)
}

// inFours writes a fingerprint as the trade does: in groups of four.
func inFours(hex string) string {
	var groups []string
	for g := range slices.Chunk([]byte(hex), 4) {
		groups = append(groups, string(g))
	}
	return strings.Join(groups, " ")
}
