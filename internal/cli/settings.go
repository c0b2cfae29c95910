package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/pflag"

	"zipstamp/internal/stamp"
	"zipstamp/internal/state"
)

// settings are what may last from run to run. A flag overrides a variable, and a variable the file.
type settings struct {
	readBack bool
	repairs  int
	receipts string // folder; empty: the state folder
	eject    bool   // cards at the end
}

// settingsFile is the file's form; what is missing is nil.
type settingsFile struct {
	ReadBack *bool   `toml:"read_back"`
	Repairs  *int    `toml:"repairs"`
	Receipts *string `toml:"receipts"`
	Eject    *bool   `toml:"eject"`
}

// maxSettings bounds the file, bytes.
const maxSettings = 1 << 20

// maxRepairs bounds the repairs; a card that needs more is no card to keep.
const maxRepairs = 100

// loadSettings reads the file, then the variables, then the flags.
func loadSettings(p person, flags *pflag.FlagSet) (settings, error) {
	s := settings{readBack: true, eject: true, repairs: stamp.DefaultRepairs}
	if err := p.as(func() error { return s.fromFile(p.configFile()) }); err != nil {
		return s, &usageError{err}
	}
	if err := s.fromVariables(); err != nil {
		return s, &usageError{err}
	}
	if flags == nil {
		return s, nil
	}
	if flags.Changed("no-read-back") {
		off, err := flags.GetBool("no-read-back")
		if err != nil {
			return s, err
		}
		s.readBack = !off
	}
	if flags.Changed("no-eject") {
		off, err := flags.GetBool("no-eject")
		if err != nil {
			return s, err
		}
		s.eject = !off
	}
	if flags.Changed("repairs") {
		n, err := flags.GetInt("repairs")
		if err != nil {
			return s, err
		}
		if err := s.setRepairs(n, "--repairs"); err != nil {
			return s, &usageError{err}
		}
	}
	return s, nil
}

func (s *settings) fromFile(path string) error {
	text, err := state.ReadFile(path, maxSettings)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var f settingsFile
	err = toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&f)
	var strict *toml.StrictMissingError
	var at *toml.DecodeError
	switch {
	case errors.As(err, &strict):
		return fmt.Errorf("%s has a setting that is not known:\n%s", path, strict.String())
	case errors.As(err, &at):
		return fmt.Errorf("%s can't be read:\n%s", path, at.String())
	case err != nil:
		return fmt.Errorf("%s can't be read: %w", path, err)
	}
	if f.ReadBack != nil {
		s.readBack = *f.ReadBack
	}
	if f.Receipts != nil {
		s.receipts = *f.Receipts
	}
	if f.Eject != nil {
		s.eject = *f.Eject
	}
	if f.Repairs != nil {
		return s.setRepairs(*f.Repairs, path+": repairs")
	}
	return nil
}

func (s *settings) fromVariables() error {
	for name, set := range map[string]*bool{"ZIPSTAMP_READ_BACK": &s.readBack, "ZIPSTAMP_EJECT": &s.eject} {
		if v := os.Getenv(name); v != "" {
			on, err := strconv.ParseBool(v)
			if err != nil {
				return fmt.Errorf("%s is %q; it is true or false", name, v)
			}
			*set = on
		}
	}
	if v := os.Getenv("ZIPSTAMP_RECEIPTS"); v != "" {
		s.receipts = v
	}
	if v := os.Getenv("ZIPSTAMP_REPAIRS"); v != "" {
		n, err := strconv.Atoi(v)
		if err != nil {
			return fmt.Errorf("ZIPSTAMP_REPAIRS is %q; it is a number", v)
		}
		return s.setRepairs(n, "ZIPSTAMP_REPAIRS")
	}
	return nil
}

func (s *settings) setRepairs(n int, where string) error {
	if n < 0 || n > maxRepairs {
		return fmt.Errorf("%s is %d; it is from 0 to %d", where, n, maxRepairs)
	}
	s.repairs = n
	return nil
}
