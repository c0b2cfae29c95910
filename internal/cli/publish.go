package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"zipstamp/internal/check"
	"zipstamp/internal/document"
	"zipstamp/internal/fetch"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/state"
	"zipstamp/internal/systems"
	"zipstamp/internal/view"
)

func (a *app) systemsMake() *cobra.Command {
	m := systems.Making{}
	cmd := a.command("systems make", 1, 1, func(cmd *cobra.Command, args []string) error {
		m.Now = time.Now()
		return a.makeSystems(cmd.Context(), args[0], m)
	})
	cmd.Flags().StringVar(&m.Base, "base-url", "", "")
	cmd.Flags().StringVar(&m.Name, "name", "", "")
	return cmd
}

// makeSystems makes a list of the images in a folder.
func (a *app) makeSystems(ctx context.Context, folder string, m systems.Making) error {
	if m.Base != "" {
		if _, err := fetch.ParseAddress(m.Base); err != nil {
			return err
		}
	}
	if !isFolder(folder) {
		return &usageError{view.NeedsFolder(folder)}
	}
	path := filepath.Join(folder, systems.FileName)
	before, err := state.ReadFile(path, systems.MaxList)
	if errors.Is(err, fs.ErrNotExist) {
		before, err = nil, nil
	}
	if err != nil {
		return err
	}
	if before == nil && m.Name == "" {
		return &usageError{view.ErrNoListName}
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	var paths []string
	for _, e := range entries {
		if e.Type().IsRegular() && image.IsNamed(e.Name()) {
			paths = append(paths, filepath.Join(folder, e.Name()))
		}
	}
	if len(paths) == 0 {
		return &usageError{view.NoImageIn(folder)}
	}
	found, left, err := a.examineImages(ctx, paths)
	if err != nil {
		return err
	}
	made, err := m.Make(before, found)
	if err != nil {
		return &usageError{view.BadList(path, err)}
	}
	if err := replaceFile(path, made.Text); err != nil {
		return err
	}
	if a.json {
		a.printJSON(struct {
			document.Head
			Path    string   `json:"path"`
			Edition int64    `json:"edition"`
			Systems int      `json:"systems"`
			New     []string `json:"new"`
			Changed []string `json:"changed"`
			Left    []string `json:"left_out"`
			Stay    []string `json:"not_in_folder"`
		}{
			document.New(document.Made, statusGood, view.ListMade(path, made)), path, made.Edition, len(made.Systems),
			orNone(made.New), orNone(made.Other), orNone(left), orNone(made.Stay),
		})
		return nil
	}
	a.screen.ListMade(path, made, left)
	return nil
}

func orNone(list []string) []string { return append([]string{}, list...) }

// replaceFile puts a file in the place of another one, whole or not at all.
func replaceFile(path string, text []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err == nil {
		err = f.Chmod(0o644)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// examineImages finds out what a list says of images, of as many at once as there are cores. left are the files that
// can't be stamped, with the reasons.
func (a *app) examineImages(ctx context.Context, paths []string) (found []systems.Found, left []string, err error) {
	var m meter.Meter
	var total int64
	for _, path := range paths {
		if info, err := os.Stat(path); err == nil {
			total += info.Size()
		}
	}
	m.Begin(meter.Check, total)
	progress := a.screen.Follow(view.Followed{Meter: &m})
	results := make([]systems.Found, len(paths))
	problems := make([]error, len(paths))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, path := range paths {
		group.Go(func() error {
			results[i], problems[i] = examineImage(ctx, path, m.Part())
			return nil
		})
	}
	_ = group.Wait() // all errors are among the problems
	m.End()
	progress.Stop()
	for i, err := range problems {
		switch {
		case ctx.Err() != nil:
			return nil, nil, context.Cause(ctx)
		case err != nil:
			left = append(left, view.ProblemSentence(err))
		default:
			found = append(found, results[i])
		}
	}
	return found, left, nil
}

func examineImage(ctx context.Context, path string, m *meter.Meter) (s systems.Found, err error) {
	f, err := image.Open(path)
	if err != nil {
		return s, err
	}
	defer f.Close()
	f.Lanes = 1
	contents, err := f.Look("")
	if err != nil {
		return s, err
	}
	report, err := check.Run(ctx, f, "", check.Published{}, m)
	if err == nil {
		err = report.Damage
	}
	if err != nil {
		return s, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return s, err
	}
	w := f.Window(contents)
	defer w.Close()
	d, err := layout.Describe(w, report.Unpacked.Known(), layout.SectorSize)
	if err != nil {
		return s, err
	}
	p := view.Peeked{Path: path, Image: f, Contents: contents, Disk: d, Shortfall: f.Shortfall()}
	s = systems.Found{
		Name: filepath.Base(path), Size: f.Size, Digest: report.Download[0].String(),
		Smallest: view.SmallestCard(p.Needs()),
		Changed:  info.ModTime(),
	}
	if len(report.Image) > 0 {
		s.Unpacked, s.Image = report.Unpacked.Bytes, report.Image[0].String()
	}
	if d.Boot != nil {
		s.Boards = d.Boot.Boards
	}
	return s, nil
}
