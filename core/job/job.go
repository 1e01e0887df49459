package job

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"strings"

	"github.com/dustin/go-humanize"

	"lumtra/core/compare"
	"lumtra/core/plan"
)

// Job says what is to be copied where, and how.
type Job struct {
	// Name is the file's name without ".toml".
	Name string `toml:"-"`
	// Source and Target are places: "endpoint/bucket/path".
	Source string `toml:"source"`
	Target string `toml:"target"`
	// Judge is how "changed" is told.
	Judge plan.Judge `toml:"judge"`
	// Proof is how closely `prove` looks.
	Proof  compare.Method `toml:"proof"`
	Limits Limits         `toml:"limits"`
}

// Limits bound what a run may use.
type Limits struct {
	Streams  int    `toml:"streams"`
	PartSize string `toml:"part-size"`
	// PartBytes is PartSize in bytes; 0 means automatic.
	PartBytes int64 `toml:"-"`
}

// names are what jobs and endpoints may be called: safe in paths and on screens.
var names = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)

const nameRule = "a name has 1 to 63 lower-case letters, digits, - and _, and starts with a letter or digit"

// Load reads the job file at path; shown is how messages call the file.
// Endpoints are those the places may name.
func Load(path, shown string, endpoints map[string]*Endpoint) (*Job, error) {
	d, err := readDocument(path, shown)
	if err != nil {
		return nil, err
	}
	j := &Job{Name: base(path), Judge: plan.BySizeAndTime, Proof: compare.ByStoredSum}
	if err := d.decode(j); err != nil {
		return nil, err
	}
	return j, j.check(d, endpoints)
}

func (j *Job) check(d *document, endpoints map[string]*Endpoint) error {
	if !names.MatchString(j.Name) {
		return d.wrong("the file's name is the job's: " + nameRule)
	}
	for _, side := range []struct{ name, place string }{{"source", j.Source}, {"target", j.Target}} {
		end, path := SplitPlace(side.place)
		switch e := endpoints[end]; {
		case side.place == "":
			return d.wrong(fmt.Sprintf("%s is missing: a place such as \"studio/masters\"", side.name), side.name)
		case e == nil:
			return d.wrong(fmt.Sprintf("%s names the endpoint %q, which endpoints.toml does not have", side.name, end), side.name)
		case e.HasBuckets() && path == "":
			return d.wrong(fmt.Sprintf("%s names no bucket or container: write \"%s/bucket/path\"", side.name, end), side.name)
		}
	}
	if end, _ := SplitPlace(j.Target); endpoints[end].Kind == KindList {
		return d.wrong("target is a list of web addresses, which can only be read", "target")
	}
	from, to := strings.TrimRight(j.Source, "/")+"/", strings.TrimRight(j.Target, "/")+"/"
	if strings.HasPrefix(from, to) || strings.HasPrefix(to, from) {
		return d.wrong("source and target are the same place, or one lies in the other", "target")
	}
	if j.Judge != plan.BySizeAndTime && j.Judge != plan.ByContent {
		return d.wrong(fmt.Sprintf("judge is %q; it is \"size-and-time\" or \"content\"", j.Judge), "judge")
	}
	if j.Proof != compare.BySize && j.Proof != compare.ByStoredSum && j.Proof != compare.ByReadBack {
		return d.wrong(fmt.Sprintf("proof is %q; it is \"size\", \"stored-checksum\" or \"read-back\"", j.Proof), "proof")
	}
	if s := j.Limits.Streams; s < 0 || s > 1024 {
		return d.wrong(fmt.Sprintf("streams is %d; it is between 1 and 1024", s), "limits", "streams")
	}
	if text := j.Limits.PartSize; text != "" {
		n, err := humanize.ParseBytes(text)
		if err != nil || n < 5<<20 || n > 5<<30 {
			return d.wrong(fmt.Sprintf("part-size is %q; it reads like \"16MiB\", between 5MiB and 5GiB", text), "limits", "part-size")
		}
		j.Limits.PartBytes = int64(n)
	}
	return nil
}

// Print is a fingerprint of all that a plan follows from.
func (j *Job) Print() string {
	h := sha256.Sum256([]byte(strings.Join([]string{j.Name, j.Source, j.Target, string(j.Judge)}, "\x00")))
	return hex.EncodeToString(h[:8])
}

// SplitPlace parts "endpoint/path" into the two.
func SplitPlace(place string) (endpoint, path string) {
	endpoint, path, _ = strings.Cut(strings.TrimLeft(place, "/"), "/")
	return endpoint, strings.Trim(path, "/")
}
