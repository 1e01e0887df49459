package job

import (
	"fmt"
	"maps"
	"slices"

	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
)

// EndpointsFile is what endpoints.toml holds.
type EndpointsFile struct {
	// Title is what the workspace is called on screens.
	Title    string                    `toml:"title"`
	Endpoint map[string]*kind.Settings `toml:"endpoint"`
}

// LoadEndpoints reads endpoints.toml.
func LoadEndpoints(path, shown string) (*EndpointsFile, error) {
	d, err := readDocument(path, shown)
	if err != nil {
		return nil, err
	}
	file := &EndpointsFile{}
	if err := d.decode(file); err != nil {
		return nil, err
	}
	return file, file.check(d)
}

func (f *EndpointsFile) check(d *document) error {
	for _, name := range slices.Sorted(maps.Keys(f.Endpoint)) {
		e := f.Endpoint[name]
		e.Name = name
		if !names.MatchString(name) {
			return d.wrong(fmt.Sprintf("endpoint %q: %s", name, nameRule), "endpoint", name)
		}
		if name == "tray" {
			return d.wrong("no endpoint can be called tray: that is what is gathered in the interface", "endpoint",
				name)
		}
		if setting, what := kinds.Check(e); what != "" {
			return d.wrong(fmt.Sprintf("endpoint %s: %s", name, what), "endpoint", name, setting)
		}
	}
	return nil
}
