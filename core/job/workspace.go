package job

import (
	"fmt"
	"os"
	"path/filepath"

	"lumtra/core/nearest"
	"lumtra/core/place/kind"
	"lumtra/core/price"
)

// Workspace is a folder with endpoints.toml and jobs/*.toml as they were when
// it was read.
type Workspace struct {
	Dir, Title string
	// Endpoints are by name; there is always [kind.Local].
	Endpoints map[string]*kind.Settings
	Jobs      []*Job // by name
	// Templates are jobs that others are made from.
	Templates []*Job
	// Rates are the stores' prices, by endpoint.
	Rates map[string]*price.Rates
	// Service is how the background service goes.
	Service *ServiceSettings
	// Mistakes are files that could not be used, and why; the others still can.
	Mistakes []error
}

const (
	endpointsFile = "endpoints.toml"
	jobsFolder    = "jobs"
)

// LoadWorkspace reads the folder. Only a workspace without a usable
// endpoints.toml is an error; a job's mistake leaves the other jobs usable.
func LoadWorkspace(dir string) (*Workspace, error) { return loadWorkspace(dir, &Cache{}) }

func loadWorkspace(dir string, cache *Cache) (*Workspace, error) {
	w := &Workspace{Dir: dir}
	path := filepath.Join(dir, endpointsFile)
	file, err := LoadEndpoints(path, path)
	if err != nil {
		return nil, err
	}
	w.Endpoints, w.Title = file.Endpoint, file.Title
	if w.Endpoints == nil {
		w.Endpoints = map[string]*kind.Settings{}
	}
	w.Endpoints[kind.Local] = &kind.Settings{Kind: "folder", Path: "/"}
	if w.Title == "" {
		w.Title = filepath.Base(dir)
	}
	files, err := jobFiles(filepath.Join(dir, jobsFolder))
	if err != nil && !os.IsNotExist(err) {
		return nil, &Mistake{File: filepath.Join(dir, jobsFolder), What: "cannot be read: " + reason(err)}
	}
	cache.begin(dir, w.Endpoints)
	for _, f := range files {
		j, err := cache.load(f)
		if err != nil {
			w.Mistakes = append(w.Mistakes, err)
			continue
		}
		if j.Template {
			w.Templates = append(w.Templates, j)
			continue
		}
		w.Jobs = append(w.Jobs, j)
	}
	cache.end(files)
	w.checkAfter()
	if w.Service, err = loadService(filepath.Join(dir, serviceFile)); err != nil {
		w.Mistakes = append(w.Mistakes, err)
	}
	if w.Rates, err = LoadRates(filepath.Join(dir, ratesFile), w.Endpoints); err != nil {
		w.Mistakes = append(w.Mistakes, err)
	}
	return w, nil
}

// Job finds a job by name, or tells why there is none.
func (w *Workspace) Job(name string) (*Job, error) {
	var known []string
	for _, j := range w.Jobs {
		if j.Name == name {
			return j, nil
		}
		known = append(known, j.Name)
	}
	for _, j := range w.Templates {
		if j.Name == name {
			return nil, &Mistake{File: filepath.Join(w.Dir, jobsFolder, name+".toml"),
				What: "this is a template: make a job from it"}
		}
	}
	for _, err := range w.Mistakes {
		if m, ok := err.(*Mistake); ok && base(m.File) == name {
			return nil, m
		}
	}
	return nil, fmt.Errorf("there is no job %q%s", name, nearest.Hint(name, known))
}
