package job

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"

	"lumtra/core/place/kind"
	"lumtra/core/price"
)

const ratesFile = "rates.toml"

type rates struct {
	// Currency is that of all prices, as it is shown: "EUR".
	Currency string                  `toml:"currency"`
	Rates    map[string]*price.Rates `toml:"rates"`
}

// LoadRates reads the prices of stores by endpoint. A file that is not there
// has none.
func LoadRates(path string, endpoints map[string]*kind.Settings) (map[string]*price.Rates, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	d, err := readDocument(path, path)
	if err != nil {
		return nil, err
	}
	old := map[string]string{}
	for name := range endpoints {
		old["rates."+name+".removes"] = "deletes"
	}
	d.raw = []byte(renamed(string(d.raw), old))
	var r rates
	if err := d.decode(&r); err != nil {
		return nil, err
	}
	if r.Currency == "" && len(r.Rates) > 0 {
		return nil, d.wrong("currency is missing: the currency of all prices, such as \"EUR\"", "currency")
	}
	for _, name := range slices.Sorted(maps.Keys(r.Rates)) {
		x := r.Rates[name]
		x.Currency = r.Currency
		if endpoints[name] == nil {
			return nil, d.wrong(fmt.Sprintf("there is no endpoint %q to have rates", name), "rates", name)
		}
		for _, p := range []struct {
			name  string
			value float64
		}{{"lists", x.Lists}, {"reads", x.Reads}, {"writes", x.Writes}, {"copies", x.Copies}, {"removes", x.Removes},
			{"egress", x.Egress}, {"retrieval", x.Retrieval}, {"storage", x.Storage}} {
			if p.value < 0 {
				return nil, d.wrong(fmt.Sprintf("%s is %g; a price is 0 or more", p.name, p.value), "rates", name,
					p.name)
			}
		}
	}
	return r.Rates, nil
}
