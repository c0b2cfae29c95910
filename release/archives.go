package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"path/filepath"
)

// archives packs each program with what goes with it: zip for Windows, tar.gz for the others.
func (r *release) archives() error {
	for _, p := range r.programs {
		text, err := os.ReadFile(p.path)
		if err != nil {
			return err
		}
		folder := r.name() + "-" + p.String()
		all := append([]file{{"zipstamp" + p.ending(), text}}, r.files...)
		pack, ending := r.tarball, ".tar.gz"
		if p.system == "windows" {
			pack, ending = r.zipFile, ".zip"
		}
		f, err := os.Create(filepath.Join(r.out, folder+ending))
		if err != nil {
			return err
		}
		if err := errors.Join(pack(f, folder, all), f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// mode is how a file is kept: the program is the only one that is run.
func mode(i int) int64 {
	if i == 0 {
		return 0o755
	}
	return 0o644
}

func (r *release) tarball(w io.Writer, folder string, all []file) error {
	z, err := gzip.NewWriterLevel(w, gzip.BestCompression)
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	for i, f := range all {
		if err := t.WriteHeader(&tar.Header{
			Typeflag: tar.TypeReg, Name: folder + "/" + f.name, Mode: mode(i), Size: int64(len(f.text)),
			ModTime: r.time, Format: tar.FormatUSTAR,
		}); err != nil {
			return err
		}
		if _, err := t.Write(f.text); err != nil {
			return err
		}
	}
	return errors.Join(t.Close(), z.Close())
}

func (r *release) zipFile(w io.Writer, folder string, all []file) error {
	z := zip.NewWriter(w)
	for i, f := range all {
		h := &zip.FileHeader{Name: folder + "/" + f.name, Method: zip.Deflate, Modified: r.time}
		h.SetMode(os.FileMode(mode(i)))
		one, err := z.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := one.Write(f.text); err != nil {
			return err
		}
	}
	return z.Close()
}
