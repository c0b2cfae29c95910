package cli

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zipstamp/internal/document"
	"zipstamp/internal/fetch"
	"zipstamp/internal/stamp"
	"zipstamp/internal/state"
	"zipstamp/internal/view"
)

// settings are what may last from run to run. A flag overrides a variable, and a variable the file.
type settings struct {
	readBack bool
	writeAll bool // also what a card holds already
	repairs  int
	receipts string // folder; empty: the state folder
	eject    bool   // cards at the end

	shelf    string        // folder; empty: the cache folder
	patience time.Duration // how long a host is waited for that says nothing
	tries    int           // how often a download is tried without any progress

	trustSystem bool // writing real cards on a system on which that was not tried much

	from map[string]string // where each is set, by its name in the file; none: it is the default
}

// set notes where a setting is set.
func (s *settings) set(name, where string) {
	if s.from == nil {
		s.from = map[string]string{}
	}
	s.from[name] = where
}

// settingsFile is the file's form; what is missing is nil.
type settingsFile struct {
	ReadBack *bool   `toml:"read_back"`
	WriteAll *bool   `toml:"write_all"`
	Repairs  *int    `toml:"repairs"`
	Receipts *string `toml:"receipts"`
	Eject    *bool   `toml:"eject"`

	Shelf    *string `toml:"shelf"`
	Patience *string `toml:"patience"`
	Tries    *int    `toml:"tries"`

	TrustSystem *bool `toml:"trust_system"`
}

// settingNames are the settings of the file.
var settingNames = []string{
	"read_back", "write_all", "repairs", "receipts", "eject", "shelf", "patience", "tries", "trust_system",
}

// wrongSetting says what a setting must be, of an error of the decoder.
func wrongSetting(at *toml.DecodeError) string {
	switch key := strings.Join(at.Key(), "."); key {
	case "repairs", "tries":
		return view.SettingNumber(key)
	case "read_back", "write_all", "eject", "trust_system":
		return view.SettingBool(key)
	case "receipts", "shelf", "patience":
		return view.SettingText(key)
	}
	return view.SettingForm(strings.TrimPrefix(at.Error(), "toml: "))
}

// maxSettings bounds the file, bytes.
const maxSettings = 1 << 20

// maxRepairs bounds the repairs; a card that needs more is no card to keep.
const maxRepairs = 100

// loadSettings reads the file, then the variables, then the flags.
func loadSettings(p person, flags *pflag.FlagSet) (settings, error) {
	s := settings{
		readBack: true, eject: true, repairs: stamp.DefaultRepairs, patience: fetch.DefaultPatience,
		tries: fetch.DefaultTries,
	}
	if err := p.as(func() error { return s.fromFile(p.configFile(), p.short(p.configFile())) }); err != nil {
		return s, &usageError{err}
	}
	if err := s.fromVariables(); err != nil {
		return s, &usageError{err}
	}
	s.receipts, s.shelf = p.expand(s.receipts), p.expand(s.shelf)
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
	if flags.Changed("write-all") {
		all, err := flags.GetBool("write-all")
		if err != nil {
			return s, err
		}
		s.writeAll = all
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

// fromFile reads the file; messages call it shown.
func (s *settings) fromFile(path, shown string) error {
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
		first := strict.Errors[0]
		line, _ := first.Position()
		return view.BadSetting(shown, line, view.UnknownSetting(strings.Join(first.Key(), "."), settingNames))
	case errors.As(err, &at):
		line, _ := at.Position()
		return view.BadSetting(shown, line, wrongSetting(at))
	case err != nil:
		return view.BadSetting(shown, 0, view.SettingForm(err.Error()))
	}
	if f.ReadBack != nil {
		s.readBack = *f.ReadBack
		s.set("read_back", shown)
	}
	if f.WriteAll != nil {
		s.writeAll = *f.WriteAll
		s.set("write_all", shown)
	}
	if f.Receipts != nil {
		s.receipts = *f.Receipts
		s.set("receipts", shown)
	}
	if f.Eject != nil {
		s.eject = *f.Eject
		s.set("eject", shown)
	}
	if f.TrustSystem != nil {
		s.trustSystem = *f.TrustSystem
		s.set("trust_system", shown)
	}
	if f.Shelf != nil {
		s.shelf = *f.Shelf
		s.set("shelf", shown)
	}
	if f.Patience != nil {
		s.set("patience", shown)
		if err := s.setPatience(*f.Patience, shown+": patience"); err != nil {
			return err
		}
	}
	if f.Tries != nil {
		s.set("tries", shown)
		if err := s.setTries(*f.Tries, shown+": tries"); err != nil {
			return err
		}
	}
	if f.Repairs != nil {
		s.set("repairs", shown)
		return s.setRepairs(*f.Repairs, shown+": repairs")
	}
	return nil
}

func (s *settings) fromVariables() error {
	switches := map[string]*bool{
		"read_back": &s.readBack, "write_all": &s.writeAll, "eject": &s.eject, "trust_system": &s.trustSystem,
	}
	for name, set := range switches {
		if v := os.Getenv(variableOf(name)); v != "" {
			on, err := strconv.ParseBool(v)
			if err != nil {
				return view.NotBool(variableOf(name), v)
			}
			*set = on
			s.set(name, variableOf(name))
		}
	}
	for name, to := range map[string]*string{"receipts": &s.receipts, "shelf": &s.shelf} {
		if v := os.Getenv(variableOf(name)); v != "" {
			*to = v
			s.set(name, variableOf(name))
		}
	}
	if v := os.Getenv(variableOf("patience")); v != "" {
		s.set("patience", variableOf("patience"))
		if err := s.setPatience(v, variableOf("patience")); err != nil {
			return err
		}
	}
	for name, to := range map[string]func(int, string) error{"repairs": s.setRepairs, "tries": s.setTries} {
		v := os.Getenv(variableOf(name))
		if v == "" {
			continue
		}
		n, err := strconv.Atoi(v)
		if err != nil {
			return view.NoNumber(variableOf(name), v)
		}
		s.set(name, variableOf(name))
		if err := to(n, variableOf(name)); err != nil {
			return err
		}
	}
	return nil
}

// Bounds of what a download waits for.
const (
	leastPatience = 100 * time.Millisecond
	mostPatience  = time.Hour
	mostTries     = 1000
)

func (s *settings) setPatience(text, where string) error {
	d, err := time.ParseDuration(text)
	if err != nil || d < leastPatience || d > mostPatience {
		return view.NoTime(where, text)
	}
	s.patience = d
	return nil
}

func (s *settings) setTries(n int, where string) error {
	if n < 1 || n > mostTries {
		return view.OutOfRange(where, n, 1, mostTries)
	}
	s.tries = n
	return nil
}

// variableOf is the variable of a setting.
func variableOf(name string) string { return "ZIPSTAMP_" + strings.ToUpper(name) }

// showSettings is the command that shows what is in force.
func (a *app) showSettings() *cobra.Command {
	return a.command("settings", 0, 0, func(*cobra.Command, []string) error {
		who, err := whoRuns()
		if err != nil {
			return err
		}
		set, err := loadSettings(who, nil)
		if err != nil {
			return err
		}
		list := []view.Setting{
			{Name: "read_back", Value: strconv.FormatBool(set.readBack)},
			{Name: "write_all", Value: strconv.FormatBool(set.writeAll)},
			{Name: "repairs", Value: strconv.Itoa(set.repairs)},
			{Name: "eject", Value: strconv.FormatBool(set.eject)},
			{Name: "patience", Value: set.patience.String()},
			{Name: "tries", Value: strconv.Itoa(set.tries)},
			{Name: "trust_system", Value: strconv.FormatBool(set.trustSystem)},
			{Name: "shelf", Value: who.short(a.shelfOf(who, set).Place.Path())},
			{Name: "receipts", Value: who.short(who.receiptsFolder(set).Path())},
		}
		for i := range list {
			list[i].From = set.from[list[i].Name]
		}
		file := who.short(who.configFile())
		if !a.json {
			a.screen.Settings(list, file)
			return nil
		}
		doc := settingsDocument{
			Head: document.New(document.Settings, statusGood, view.SettingsSentence(file)), File: file, List: list,
		}
		a.printJSON(doc)
		return nil
	})
}

// settingsDocument is the JSON document of settings.
type settingsDocument struct {
	document.Head
	File string         `json:"file"`
	List []view.Setting `json:"list"`
}

func (s *settings) setRepairs(n int, where string) error {
	if n < 0 || n > maxRepairs {
		return view.OutOfRange(where, n, 0, maxRepairs)
	}
	s.repairs = n
	return nil
}
