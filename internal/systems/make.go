package systems

import (
	"bytes"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
)

// FileName is that of a list that is made.
const FileName = "systems.toml"

// Found is an image in a folder of which a list is made.
type Found struct {
	Name     string // of the file
	Size     int64  // of the download, bytes
	Digest   string // of the download
	Unpacked int64
	Image    string // digest of the unpacked image
	Boards   []string
	Smallest int64
	Changed  time.Time // by its file system
}

// Making is how a list is made.
type Making struct {
	Name string // of the list; empty: as it was
	Base string // URL of the folder in which the images will be; empty: they will be beside the list
	Now  time.Time
}

// Made is a list that was made.
type Made struct {
	List
	Text  []byte
	New   []string // files that were not in it before
	Other []string // files that are other ones than before, by their digest
	Stay  []string // systems of which the file is not in the folder
}

// Make makes a list of images, or makes one anew: what was written into it by hand stays. before is the text of the
// list that is there; nil for none.
func (m Making) Make(before []byte, images []Found) (made Made, err error) {
	doc := map[string]any{}
	if before != nil {
		was, err := Read(before)
		if err != nil {
			return made, err
		}
		if bytes.HasPrefix(bytes.TrimSpace(before), []byte("{")) {
			return made, fmt.Errorf("is written in JSON; %s can only be made anew in TOML", FileName)
		}
		if err := toml.Unmarshal(before, &doc); err != nil {
			return made, err
		}
		made.Edition = was.Edition
	}
	doc["zipstamp_systems"], doc["edition"] = int64(Version), made.Edition+1
	doc["published"] = m.Now.UTC().Truncate(time.Second)
	if m.Name != "" {
		doc["name"] = m.Name
	}
	entries, _ := doc["system"].([]any)
	known := map[string]map[string]any{} // by the file's name
	for _, e := range entries {
		entry, ok := e.(map[string]any)
		if !ok {
			continue
		}
		known[fileOf(entry)] = entry
	}
	here := map[string]bool{}
	for _, f := range images {
		here[f.Name] = true
		entry := known[f.Name]
		switch {
		case entry == nil:
			entry = map[string]any{}
			entries = append(entries, entry)
			made.New = append(made.New, f.Name)
		case entry["digest"] != f.Digest:
			made.Other = append(made.Other, f.Name)
		}
		m.fill(entry, f)
	}
	for _, name := range slices.Sorted(maps.Keys(known)) {
		if !here[name] {
			title, _ := known[name]["name"].(string)
			made.Stay = append(made.Stay, title)
		}
	}
	doc["system"] = entries
	body, err := inOrder(doc, entries)
	if err != nil {
		return made, err
	}
	made.Text = append([]byte("# A list of systems for zipstamp, which made it; see docs/formats.md. Fields that you "+
		"change "+
		"or add\n# stay when it is made anew, but for sizes and digests.\n"), body...)
	made.List, err = Read(made.Text)
	return made, err
}

// The order of what is in a list, as people read it; what else there is comes behind.
var (
	listOrder   = []string{"zipstamp_systems", "name", "edition", "published", "expires"}
	systemOrder = []string{
		"name", "version", "date", "boards", "smallest_card", "notes", "successor", "urls", "size", "digest",
		"unpacked_size", "unpacked_digest",
	}
)

// inOrder writes a list in TOML.
func inOrder(doc map[string]any, entries []any) ([]byte, error) {
	var b bytes.Buffer
	delete(doc, "system")
	if err := writeOrdered(&b, doc, listOrder); err != nil {
		return nil, err
	}
	for _, e := range entries {
		entry, ok := e.(map[string]any)
		if !ok {
			continue
		}
		b.WriteString("\n[[system]]\n")
		if err := writeOrdered(&b, entry, systemOrder); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

func writeOrdered(b *bytes.Buffer, table map[string]any, order []string) error {
	keys := slices.Clone(order)
	for _, key := range slices.Sorted(maps.Keys(table)) {
		if !slices.Contains(keys, key) {
			keys = append(keys, key)
		}
	}
	for _, key := range keys {
		value, ok := table[key]
		if !ok {
			continue
		}
		if _, isTable := value.(map[string]any); isTable {
			return fmt.Errorf("has the table %s, which can't be kept", key)
		}
		line, err := toml.Marshal(map[string]any{key: value})
		if err != nil {
			return err
		}
		b.Write(line)
	}
	return nil
}

// fileOf is the name of the file that an entry is of.
func fileOf(entry map[string]any) string {
	urls, _ := entry["urls"].([]any)
	for _, u := range urls {
		if text, ok := u.(string); ok {
			text, _, _ = strings.Cut(text, "?")
			return path.Base(text)
		}
	}
	return ""
}

// fill fills in what is found out, and what is missing.
func (m Making) fill(entry map[string]any, f Found) {
	name, version := Guess(f.Name, f.Changed)
	entry["size"], entry["digest"] = f.Size, f.Digest
	for key, value := range map[string]any{"unpacked_size": f.Unpacked, "unpacked_digest": f.Image} {
		if delete(entry, key); value != int64(0) && value != "" {
			entry[key] = value
		}
	}
	missing := map[string]any{"name": name, "version": version, "date": f.Changed.UTC().Format(dateForm)}
	if len(f.Boards) > 0 {
		missing["boards"] = f.Boards
	}
	if f.Smallest > 0 {
		missing["smallest_card"] = f.Smallest
	}
	for key, value := range missing {
		if entry[key] == nil {
			entry[key] = value
		}
	}
	own := f.Name
	if m.Base != "" {
		own = strings.TrimSuffix(m.Base, "/") + "/" + f.Name
	}
	urls, _ := entry["urls"].([]any)
	if len(urls) == 0 || m.Base != "" {
		urls = slices.DeleteFunc(urls, func(u any) bool { return u == f.Name || u == own })
		urls = append([]any{own}, urls...)
	}
	entry["urls"] = urls
}

// versions are how versions stand in names of files: 1.2, v2026.11, 2026-11-18, 20261118.
var versions = regexp.MustCompile(`^(.+?)[-_ ]v?(\d{4}-\d{2}-\d{2}|\d+(?:\.\d+)+|\d{6,8})(?:[-_. ](.*))?$`)

// Guess finds the name and the version of a system in the name of its file. Without one there, the day counts.
func Guess(file string, changed time.Time) (name, version string) {
	stem := file
	for range 3 {
		ending := path.Ext(stem)
		if ending == "" || len(ending) > 5 || strings.ContainsAny(ending[1:2], "0123456789") && ending != ".7z" {
			break
		}
		stem = strings.TrimSuffix(stem, ending)
	}
	stem = strings.NewReplacer("@", "-", "/", "-", `\`, "-").Replace(stem)
	if m := versions.FindStringSubmatch(stem); m != nil {
		name = m[1]
		if m[3] != "" {
			name += " " + m[3]
		}
		return name, m[2]
	}
	return stem, changed.UTC().Format(dateForm)
}
