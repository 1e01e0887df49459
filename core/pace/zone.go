package pace

import (
	"sync"
	"time"
)

// zones are those that were loaded: each has some tens of kilobytes of its own.
var zones struct {
	sync.Mutex
	by map[string]*time.Location
}

// mostZones is more than there are.
const mostZones = 2000

// Zone loads a zone of the IANA time zone database by its name, once.
func Zone(name string) (*time.Location, error) {
	zones.Lock()
	defer zones.Unlock()
	if z := zones.by[name]; z != nil {
		return z, nil
	}
	z, err := time.LoadLocation(name)
	if err != nil {
		return nil, err
	}
	if zones.by == nil || len(zones.by) > mostZones {
		zones.by = map[string]*time.Location{}
	}
	zones.by[name] = z
	return z, nil
}
