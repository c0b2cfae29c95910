package cli

import (
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/adrg/xdg"

	"zipstamp/internal/state"
	"zipstamp/internal/view"
)

// person is who runs the program: under sudo, who called it.
type person struct {
	home  string      // the folder below which the program's own folders are made
	owner state.Owner // of new files; the zero value where that needs no care
	sudo  bool
}

func whoRuns() (person, error) {
	uid, gid := os.Getenv("SUDO_UID"), os.Getenv("SUDO_GID")
	if os.Geteuid() != 0 || uid == "" || uid == "0" {
		return person{}, nil
	}
	u, err := user.LookupId(uid)
	if err != nil {
		return person{}, view.NoHome(err)
	}
	p := person{home: u.HomeDir, sudo: true}
	if p.owner.UID, err = strconv.Atoi(uid); err == nil {
		p.owner.GID, err = strconv.Atoi(gid)
	}
	return p, err
}

// as does something to the person's files with the person's own rights, and no others.
func (p person) as(do func() error) error { return state.As(p.owner, do) }

// configFile is where lasting settings are.
func (p person) configFile() string {
	const name = "zipstamp/config.toml"
	if p.sudo {
		return filepath.Join(p.home, ".config", name)
	}
	return filepath.Join(xdg.ConfigHome, name)
}

// keysFolder is where the keys are that the user keeps.
func (p person) keysFolder() string { return filepath.Join(filepath.Dir(p.configFile()), "keys") }

// stateFolder is where a part of what the program remembers is kept.
func (p person) stateFolder(part string) state.Place {
	name := filepath.Join("zipstamp", part)
	if p.sudo {
		return state.Place{Home: p.home, Folder: filepath.Join(".local/state", name), Owner: p.owner}
	}
	return p.folder(filepath.Join(xdg.StateHome, name))
}

// signedFolder is where it is remembered which addresses had something that is signed.
func (p person) signedFolder() state.Place { return p.stateFolder("signed") }

// cacheFolder is where a part of what can be had again is kept.
func (p person) cacheFolder(part string) state.Place {
	name := filepath.Join("zipstamp", part)
	if p.sudo {
		return state.Place{Home: p.home, Folder: filepath.Join(".cache", name), Owner: p.owner}
	}
	return p.folder(filepath.Join(xdg.CacheHome, name))
}

// folder is a folder that the user named.
func (p person) folder(path string) state.Place {
	base, below := splitExisting(path)
	return state.Place{Home: base, Folder: below, Owner: p.owner}
}

// receiptsFolder is where receipts are kept.
func (p person) receiptsFolder(set settings) state.Place {
	if set.receipts != "" {
		return p.folder(set.receipts)
	}
	return p.stateFolder("receipts")
}

// expand fills in a tilde at the start of a path, as shells do.
func (p person) expand(path string) string {
	rest, ok := strings.CutPrefix(path, "~")
	if !ok || rest != "" && rest[0] != '/' && rest[0] != filepath.Separator {
		return path
	}
	home := p.home
	if !p.sudo {
		home, _ = os.UserHomeDir() // without a home, the path stays as it is
	}
	if home == "" {
		return path
	}
	return filepath.Join(home, rest)
}

// short writes a path below the working folder from there, and one below the person's home as shells do, with a tilde.
func (p person) short(path string) string {
	if filepath.Separator == '\\' {
		return path // the shells of Windows know no tilde
	}
	home := p.home
	if !p.sudo {
		home, _ = os.UserHomeDir() // without a home, nothing is below it
	}
	below := func(folder string) (string, bool) {
		return strings.CutPrefix(path, folder+string(filepath.Separator))
	}
	if here, err := os.Getwd(); err == nil && here != home {
		if rest, ok := below(here); ok {
			return rest
		}
	}
	if rest, ok := below(home); ok && home != "" {
		return filepath.Join("~", rest)
	}
	return path
}

// splitExisting takes the part of a path that exists, with its links followed, from the rest.
func splitExisting(path string) (base, below string) {
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	below = "."
	for {
		if real, err := filepath.EvalSymlinks(path); err == nil {
			return real, below
		}
		parent := filepath.Dir(path)
		if parent == path {
			return path, below
		}
		below = filepath.Join(filepath.Base(path), below)
		path = parent
	}
}
