package cli

import (
	"cmp"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"zipstamp/internal/document"
	"zipstamp/internal/fetch"
	"zipstamp/internal/meter"
	"zipstamp/internal/shelf"
	"zipstamp/internal/state"
	"zipstamp/internal/view"
)

func (a *app) fetch() *cobra.Command {
	var f fetching
	cmd := a.command("fetch", 1, 1, func(cmd *cobra.Command, args []string) error {
		f.record = record{app: a}
		if err := f.begin(nil); err != nil {
			return err
		}
		return f.run(cmd.Context(), args[0])
	})
	flags := cmd.Flags()
	f.published.flags(flags)
	flags.StringVar(&f.to, "to", "", "")
	flags.BoolVar(&f.plain, "plain-http", false, "")
	flags.BoolVar(&f.mustMatch, "must-match", false, "")
	return cmd
}

// fetching is a run of fetch.
type fetching struct {
	record
	published
	to        string // a folder; empty: the shelf
	plain     bool
	mustMatch bool
}

// makeFolder makes the folder that the user named, if it isn't there and only its last name is missing.
func (f *fetching) makeFolder() error {
	if isFolder(f.to) {
		return nil
	}
	err := f.who.as(func() error { return os.Mkdir(f.to, 0o777) })
	if err != nil {
		return &usageError{view.NoFolderToPut(f.to)}
	}
	f.screen.Say(view.FolderMade(f.to))
	return nil
}

// fetchDocument is the JSON document of fetch.
type fetchDocument struct {
	document.Head
	Path      string       `json:"path"`
	URL       string       `json:"url"`
	Redirects []string     `json:"redirects,omitempty"`
	Secure    bool         `json:"secure"`
	FromShelf bool         `json:"from_shelf"` // nothing had to be downloaded
	Fetched   int64        `json:"fetched"`    // bytes that came in this run
	Image     checkedImage `json:"image"`
}

func (f *fetching) run(ctx context.Context, what string) error {
	if f.to != "" {
		if err := f.makeFolder(); err != nil {
			return err
		}
	}
	if _, err := f.given(); err != nil { // before anything is downloaded
		return err
	}
	keys, err := f.ring(f.who)
	if err != nil {
		return err
	}
	r, err := f.app.remoteOf(ctx, f.who, f.set, what, f.plain)
	if err != nil {
		return err
	}
	defer r.close()
	r.keyed = len(keys.Ring) > 0
	if f.to != "" {
		r.folder, r.shelf = f.to, shelf.Shelf{Place: f.who.folder(f.to), Prefix: ".zipstamp-", As: f.who.as}
	}
	var m meter.Meter
	progress := f.screen.Follow(view.Followed{Meter: &m})
	r.say = progress.Say
	var got fetch.Got
	if err = r.open(ctx, &m); err == nil && r.down != nil {
		if got, err = r.run(ctx, &m); err == nil {
			err = r.finish(got)
		}
	}
	var result checked
	if err == nil {
		f.remote = r
		c := checking{app: f.app, published: &f.published, who: f.who}
		result = c.look(ctx, r.path, &m)
		err = result.err
	}
	m.End()
	progress.Stop()
	if errors.Is(err, view.ErrInterrupted) && r.down != nil && r.part != nil {
		f.screen.Say(view.PartKept(r.part.Size()))
	}
	if err == nil {
		err = r.judged(result.report)
	}
	if err == nil {
		err = r.perhapsCut(result.report)
	}
	if err != nil {
		if !r.worthKeeping(err) {
			err = cmp.Or(err, r.discard())
		}
		return err
	}
	return f.conclude(r, got, result)
}

// conclude puts the file where it is to be, and shows what a check has found.
func (f *fetching) conclude(r *remote, got fetch.Got, result checked) error {
	c := checking{app: f.app, published: &f.published, who: f.who, mustMatch: f.mustMatch}
	failed := c.verdict(result)
	path, bad := r.path, failed != nil && (f.mustMatch || !result.report.OnlyUnnamed())
	whole := *r.item.Whole
	if r.folder != "" {
		var err error
		if !bad {
			path, err = r.deliver(result.report)
			result.report.Path = path
		}
		if err == nil || is[*usageError](err) {
			err = cmp.Or(err, r.discard())
		}
		if err != nil {
			return err
		}
	}
	if f.json {
		doc := result.document()
		out := fetchDocument{
			Head: document.New(document.Fetch, statusOf(failed), doc.Sentence), Path: path, URL: r.mirrors[0].Shown(),
			Secure: whole.Secure, FromShelf: !r.came, Fetched: got.Fetched, Image: doc,
		}
		for _, to := range r.offer.Redirects {
			out.Redirects = append(out.Redirects, to.Shown())
		}
		f.printJSON(out)
	} else {
		f.screen.Fetched(result.report, view.Fetch{
			Path: f.who.short(path), From: r.mirrors[0].Shown(), Redirects: r.offer.Redirects, Came: r.came,
			Whole: whole, Bad: bad, Shelved: r.folder == "",
		})
	}
	if failed != nil {
		return shown{failed}
	}
	return nil
}

// remoteOf is what a person wants to be downloaded: a URL, a Metalink document, or a system of a list.
func (a *app) remoteOf(ctx context.Context, who person, set settings, what string, plain bool) (*remote, error) {
	switch {
	case fetch.IsURL(what):
		at, err := fetch.ParseAddress(what)
		if err != nil {
			return nil, err
		}
		r := a.newRemote(who, set, at, plain)
		if strings.HasSuffix(strings.ToLower(at.Name()), fetch.MetalinkEnding) {
			s, err := r.client.Small(ctx, at, fetch.MaxMetalink, nil)
			if err != nil {
				return nil, err
			}
			if err := r.ofMetalink(at.Name(), s.Text, s.Secure); err != nil {
				return nil, err
			}
			r.origin.Elsewhere = at.Host()
		}
		return r, nil
	case strings.HasSuffix(strings.ToLower(what), fetch.MetalinkEnding):
		text, err := state.ReadFile(what, fetch.MaxMetalink)
		if err != nil {
			return nil, openError(err)
		}
		r := a.newRemote(who, set, fetch.Address{}, plain)
		return r, r.ofMetalink(filepath.Base(what), text, true)
	case strings.HasSuffix(strings.ToLower(what), ".torrent"):
		return nil, &fetch.Error{Why: fetch.Torrent, URL: what}
	}
	if _, err := os.Stat(what); err == nil {
		return nil, &usageError{view.IsHere(what)}
	}
	if fetch.LacksScheme(what) && !a.isOfList(what) {
		return nil, &usageError{view.NoSchemeBefore(what)}
	}
	return a.remoteSystem(who, set, what, plain)
}

// ofMetalink takes what is to be downloaded from a Metalink document.
func (r *remote) ofMetalink(name string, text []byte, counts bool) error {
	files, err := fetch.ReadMetalink(text)
	if err != nil {
		return &fetch.Error{Why: fetch.Malformed, URL: name, Err: err}
	}
	if len(files) > 1 {
		var names []string
		for _, f := range files {
			names = append(names, f.Name)
		}
		return &usageError{view.SeveralFiles(name, names)}
	}
	r.know(files[0], name, counts)
	r.secure = counts
	r.mirrors, r.document, r.signature = files[0].Mirrors, name, files[0].Signature
	return nil
}
