package job

import (
	"maps"
	"path/filepath"
	"reflect"
	"strings"
	"sync"

	"lumtra/core/place/kind"
)

// Cache keeps the jobs of a workspace as they were read, so that reading it again costs what has
// changed. A job is the same value as long as its file and all endpoints are the same. Its methods may
// be called from many goroutines.
type Cache struct {
	mu        sync.Mutex
	dir       string
	endpoints map[string]*kind.Settings
	jobs      map[string]cached // by the file's name
}

// cached is a job file as it was read.
type cached struct {
	stamp stamp
	job   *Job
	err   error
}

// Load reads the folder, as [LoadWorkspace] does.
func (c *Cache) Load(dir string) (*Workspace, error) { return loadWorkspace(dir, c) }

// begin takes the endpoints that jobs are checked against from now on.
func (c *Cache) begin(dir string, endpoints map[string]*kind.Settings) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.jobs == nil || c.dir != dir || !reflect.DeepEqual(c.endpoints, endpoints) {
		c.jobs = map[string]cached{}
	}
	c.dir, c.endpoints = dir, endpoints
}

// load reads a job file, unless it is as it was.
func (c *Cache) load(f jobFile) (*Job, error) {
	c.mu.Lock()
	was, known := c.jobs[f.name]
	dir, endpoints := c.dir, c.endpoints
	c.mu.Unlock()
	if known && was.stamp == f.stamp && f.stamp != (stamp{}) {
		return was.job, was.err
	}
	path := filepath.Join(dir, jobsFolder, f.name)
	j, err := load(path, path, endpoints)
	// A job whose times follow from another file, too, is read each time.
	if f.stamp != (stamp{}) && !strings.Contains(strings.ToLower(strings.Join(j.whenExcept(), " ")), ".ics") {
		c.mu.Lock()
		c.jobs[f.name] = cached{f.stamp, j, err}
		c.mu.Unlock()
	}
	return j, err
}

// whenExcept are the dates on which a job does not start; none for one that could not be read.
func (j *Job) whenExcept() []string {
	if j == nil {
		return []string{".ics"}
	}
	return j.When.Except
}

// end forgets files that are gone.
func (c *Cache) end(files []jobFile) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.jobs) <= len(files) { // what is gone costs little: a file of its name that comes later has another stamp
		return
	}
	here := map[string]bool{}
	for _, f := range files {
		here[f.name] = true
	}
	maps.DeleteFunc(c.jobs, func(name string, _ cached) bool { return !here[name] })
}
