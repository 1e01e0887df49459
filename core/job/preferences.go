package job

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lumtra/core/atomicfile"
	"lumtra/core/nearest"
)

// PreferencesFile is the name of the file that holds a person's preferences.
const PreferencesFile = "lumtra.toml"

// Preferences are how one person wants to see things, in a file of that person's own: what
// belongs to a workspace is in the workspace.
type Preferences struct {
	// Theme is one of [Themes].
	Theme string `toml:"theme,omitempty"`
	// Units are those of sizes, one of [UnitNames].
	Units string `toml:"units,omitempty"`
	// Rates are "bytes" or "bits", a second.
	Rates string `toml:"rates,omitempty"`
	// Zone is the time zone of everything that is shown, "" for the machine's.
	Zone string `toml:"zone,omitempty"`
	// Terminal is what Lumtra may ask of the terminal.
	Terminal Terminal `toml:"terminal"`
	// Keys are, for each view by its name in lower case, other keys for what a key does:
	// pressed = "meant".
	Keys map[string]map[string]string `toml:"keys,omitempty"`
}

// Terminal says what may be asked of the terminal; nil is yes.
type Terminal struct {
	// Title puts the workspace and the run into the window's title, Progress a bar where the
	// terminal has one, Notify tells when a run ends or a person is needed while nobody looks,
	// Links makes paths of what was exported into links, Pictures shows previews in full resolution.
	Title    *bool `toml:"title,omitempty"`
	Progress *bool `toml:"progress,omitempty"`
	Notify   *bool `toml:"notify,omitempty"`
	Links    *bool `toml:"links,omitempty"`
	Pictures *bool `toml:"pictures,omitempty"`
}

// The choices of preferences, the usual one first.
var (
	Themes    = []string{"terminal", "dark", "light", "contrast", "safe"}
	UnitNames = []string{"binary", "decimal"}
	RateNames = []string{"bytes", "bits"}
)

// May tells whether something may be asked of the terminal.
func May(set *bool) bool { return set == nil || *set }

// PreferencesPath is where the preferences of this machine's user are: lumtra/lumtra.toml in
// the folder for settings ($XDG_CONFIG_HOME, or as the system has it).
func PreferencesPath() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "lumtra", PreferencesFile), err
}

// LoadPreferences reads preferences. A file that is not there has none; with a mistake those
// are returned that could be read.
func LoadPreferences(path string) (*Preferences, error) {
	p := &Preferences{}
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	d, err := readDocument(path, path)
	if err != nil {
		return p, err
	}
	if err := d.decode(p); err != nil {
		return p, err
	}
	return p, p.check(d)
}

func (p *Preferences) check(d *document) error {
	for _, x := range []struct {
		name, value string
		known       []string
	}{{"theme", p.Theme, Themes}, {"units", p.Units, UnitNames}, {"rates", p.Rates, RateNames}} {
		if x.value != "" && !slices.Contains(x.known, x.value) {
			return d.wrong(fmt.Sprintf("%s is %q; it is %s%s", x.name, x.value, strings.Join(x.known, ", "),
				nearest.Hint(x.value, x.known)), x.name)
		}
	}
	if _, err := time.LoadLocation(p.Zone); err != nil {
		return d.wrong(fmt.Sprintf("zone is %q, which is no time zone such as \"Europe/Lisbon\"", p.Zone), "zone")
	}
	for _, view := range slices.Sorted(maps.Keys(p.Keys)) {
		meant := map[string]string{}
		for _, press := range slices.Sorted(maps.Keys(p.Keys[view])) {
			if other, twice := meant[p.Keys[view][press]]; twice {
				return d.wrong(fmt.Sprintf("%q and %q are both given to what %q does", other, press,
					p.Keys[view][press]), "keys", view, press)
			}
			meant[p.Keys[view][press]] = press
		}
	}
	return nil
}

// TouchPreferences makes the file if it is not there, for an editor to open.
func TouchPreferences(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	return f.Close()
}

// SetPreference changes one setting in the file, which comes into being if need be, and leaves
// all else in it. A change that would be a mistake is refused.
func SetPreference(path string, value any, setting ...string) error {
	raw, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the preferences cannot be read: %w", err)
	}
	text, err := Set(string(raw), value, setting...)
	if err != nil {
		return err
	}
	d := &document{file: path, raw: []byte(text)}
	var p Preferences
	if err := d.decode(&p); err != nil {
		return err
	}
	if err := p.check(d); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if real, err := filepath.EvalSymlinks(path); err == nil { // many keep such files elsewhere, and link to them
		path = real
	}
	return atomicfile.Write(path, []byte(text), 0o600)
}
