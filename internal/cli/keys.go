package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"zipstamp/internal/document"
	"zipstamp/internal/state"
	"zipstamp/internal/trust"
	"zipstamp/internal/view"
)

func (a *app) keys() *cobra.Command {
	return a.group("keys", a.keysAdd(), a.keysList(), a.keysRemove())
}

func (a *app) keysAdd() *cobra.Command {
	var fingerprint string
	cmd := a.command("keys add", 1, 1, func(cmd *cobra.Command, args []string) error {
		who, err := whoRuns()
		if err == nil && who.sudo {
			err = errKeysAsRoot
		}
		if err != nil {
			return err
		}
		text, err := state.ReadFile(args[0], trust.MaxKeys)
		if err != nil {
			return openError(err)
		}
		found, err := trust.ReadKeys(text, args[0])
		if err != nil {
			return &usageError{fmt.Errorf("%s %w", args[0], err)}
		}
		if len(found) != 1 {
			return &usageError{view.SeveralKeys(args[0], len(found))}
		}
		k := found[0]
		if err := a.confirmKey(cmd, k, fingerprint); err != nil {
			return err
		}
		path, err := trust.Keep(who.folder(who.keysFolder()), k, text)
		if err != nil {
			return view.KeyUnkept(err)
		}
		k.Kept = true
		if a.json {
			a.printJSON(keysDocument{
				document.New(document.Keys, statusGood, view.KeyKeptSentence(k)), []keyDocument{describeKey(k)},
			})
			return nil
		}
		a.screen.KeyKept(k, who.short(path))
		return nil
	})
	cmd.Flags().StringVar(&fingerprint, "fingerprint", "", "")
	return cmd
}

// errKeysAsRoot keeps files that belong to root out of a person's home.
var errKeysAsRoot = &usageError{view.ErrKeysAsRoot}

// confirmKey has a person compare the fingerprint, or compares it with the one given.
func (a *app) confirmKey(cmd *cobra.Command, k trust.Key, fingerprint string) error {
	switch {
	case fingerprint != "" && k.IsFingerprint(fingerprint):
		return nil
	case fingerprint != "":
		return &imageError{view.OtherKey(k.Fingerprint)}
	case !a.screen.Asks():
		return &usageError{view.ErrNoFingerprint}
	}
	same, err := a.screen.ConfirmKey(cmd.Context(), k)
	if err == nil && !same {
		err = &usageError{view.ErrNotTyped}
	}
	return err
}

func (a *app) keysList() *cobra.Command {
	return a.command("keys list", 0, 0, func(*cobra.Command, []string) error {
		kept, who, err := keptKeys()
		if err != nil {
			return err
		}
		if !a.json {
			for i := range kept {
				kept[i].Source = who.short(kept[i].Source)
			}
			a.screen.Keys(kept)
			return nil
		}
		doc := keysDocument{document.New(document.Keys, statusGood, view.KeysSentence(len(kept))), []keyDocument{}}
		for _, k := range kept {
			doc.Keys = append(doc.Keys, describeKey(k))
		}
		a.printJSON(doc)
		return nil
	})
}

func (a *app) keysRemove() *cobra.Command {
	return a.command("keys remove", 1, 1, func(_ *cobra.Command, args []string) error {
		kept, who, err := keptKeys()
		if err == nil && who.sudo {
			err = errKeysAsRoot
		}
		if err != nil {
			return err
		}
		switch found := kept.ByID(args[0]); len(found) {
		case 0:
			return &usageError{view.NoKey(args[0])}
		case 1:
			if err := trust.Remove(found); err != nil {
				return err
			}
			if a.json {
				a.printJSON(keysDocument{
					document.New(document.Keys, statusGood, view.KeyForgottenSentence(found[0])),
					[]keyDocument{describeKey(found[0])},
				})
				return nil
			}
			a.screen.KeyForgotten(found[0], who.short(found[0].Source))
			return nil
		default:
			return &usageError{view.ManyKeys(args[0], len(found))}
		}
	})
}

func keptKeys() (trust.Ring, person, error) {
	who, err := whoRuns()
	if err != nil {
		return nil, who, err
	}
	kept, err := trust.Kept(who.keysFolder())
	return kept, who, err
}

// The JSON document of keys.
type (
	keysDocument struct {
		document.Head
		Keys []keyDocument `json:"keys"`
	}
	keyDocument struct {
		Format      trust.Format `json:"format"`
		ID          string       `json:"id"`
		Fingerprint string       `json:"fingerprint"`
		Owner       string       `json:"owner"`
		File        string       `json:"file"`
	}
)

func describeKey(k trust.Key) keyDocument {
	return keyDocument{k.Format, k.ID, k.Fingerprint, k.Owner, k.Source}
}
