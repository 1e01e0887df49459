package job

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"regexp"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/pelletier/go-toml/v2"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/pace"
	"lumtra/core/rule"
)

// Job says what is to be copied where, and how.
type Job struct {
	// Name is the file's name without ".toml".
	Name string `toml:"-"`
	// Source and Target are places: "endpoint/bucket/path". A "/" at the end of
	// either means nothing.
	Source string `toml:"source"`
	Target string `toml:"target"`
	// Rules are the phrases a plan follows from.
	rule.Rules
	// Proof is how closely `prove` looks.
	Proof compare.Method `toml:"proof,omitempty"`
	// Digest is computed of all that a run sends, and by proofs: "sha256" or "blake3";
	// "" for none.
	Digest string `toml:"digest,omitempty"`
	// ReadTwice has content that its source keeps nothing to hold against read twice.
	ReadTwice bool   `toml:"read-twice,omitempty"`
	Limits    Limits `toml:"limits"`
	// SurveyAge is how old a survey may be to be planned from again, as an age
	// such as "2h"; "" means that every plan surveys anew.
	SurveyAge string `toml:"survey-age,omitempty"`
	// Template marks a job that others are made from, and that is never run.
	Template bool `toml:"template,omitempty"`
}

// New is a job that says nothing yet.
func New(name string) *Job {
	return &Job{Name: name, Rules: rule.Default(), Proof: compare.ByStoredSum}
}

// Lands is the place at which the job's objects land: the target, or the
// folder in it that has the source's name.
func (j *Job) Lands() string {
	to := strings.TrimRight(j.Target, "/")
	if j.Landing != rule.WithFolder {
		return to
	}
	return to + "/" + path.Base(strings.TrimRight(j.Source, "/"))
}

// DigestKind is the digest that proofs compute; false for one there is not.
func (j *Job) DigestKind() (object.SumKind, bool) {
	kind, ok := map[string]object.SumKind{"": object.NoSum, "sha256": object.SHA256, "blake3": object.BLAKE3}[j.Digest]
	return kind, ok
}

// Reuse is how old a survey may be to be planned from again.
func (j *Job) Reuse() time.Duration {
	age, _ := rule.ParseAge(j.SurveyAge)
	return age
}

// Limits bound what a run may use.
type Limits struct {
	Streams  int    `toml:"streams,omitempty"`
	PartSize string `toml:"part-size,omitempty"`
	// PartBytes is PartSize in bytes; 0 means automatic.
	PartBytes int64 `toml:"-"`
	// Durable has the run's ledger reach the disk before it counts, for machines
	// that may lose power.
	Durable bool `toml:"durable,omitempty"`
	// Bandwidth are lines of [pace.ParseHours], Zone the time zone they are
	// read in; Hours is what they say.
	Bandwidth []string    `toml:"bandwidth,omitempty"`
	Zone      string      `toml:"zone,omitempty"`
	Hours     *pace.Hours `toml:"-"`
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
	return d.job(base(path), endpoints)
}

// Parse reads a job from text as if it stood in a file of that name.
func Parse(name, text string, endpoints map[string]*Endpoint) (*Job, error) {
	return (&document{file: name + ".toml", raw: []byte(text)}).job(name, endpoints)
}

// job reads the document. With a mistake the job is there as far as it could be
// read, for showing; it is not for use.
func (d *document) job(name string, endpoints map[string]*Endpoint) (*Job, error) {
	j := New(name)
	if err := d.decode(j); err != nil {
		return j, err
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
	if _, path := SplitPlace(j.Source); j.Landing == rule.WithFolder && path == "" {
		return d.wrong("landing is \"folder\", but the source is a whole endpoint, which has no name of its own to land under; write \"inside\"", "landing")
	}
	from, to := strings.TrimRight(j.Source, "/")+"/", j.Lands()+"/"
	if strings.HasPrefix(from, to) || strings.HasPrefix(to, from) {
		return d.wrong("source and target are the same place, or one lies in the other", "target")
	}
	if setting, what := j.Rules.Check(); what != "" {
		return d.wrong(what, strings.Split(setting, ".")...)
	}
	if end, _ := SplitPlace(j.Target); len(j.As.Gzip) > 0 && endpoints[end].Kind == KindFolder {
		return d.wrong("gzip is for stores, which keep that content is compressed; a folder does not", "as", "gzip")
	}
	if end, _ := SplitPlace(j.Source); j.Direction == rule.TwoWay && endpoints[end].Kind == KindList {
		return d.wrong("source is a list of web addresses, which can only be read: direction is \"one-way\"", "direction")
	}
	if _, ok := rule.ParseAge(j.SurveyAge); j.SurveyAge != "" && !ok {
		return d.wrong(fmt.Sprintf("survey-age is %q; it is an age such as \"2h\" or \"1d\"", j.SurveyAge), "survey-age")
	}
	if j.Proof != compare.BySize && j.Proof != compare.ByStoredSum && j.Proof != compare.ByReadBack {
		return d.wrong(fmt.Sprintf("proof is %q; it is \"size\", \"stored-checksum\" or \"read-back\"", j.Proof), "proof")
	}
	if _, ok := j.DigestKind(); !ok {
		return d.wrong(fmt.Sprintf("digest is %q; it is \"sha256\" or \"blake3\", or left out", j.Digest), "digest")
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
	var what string
	if j.Limits.Hours, what = hours(j.Limits.Bandwidth, j.Limits.Zone); what != "" {
		return d.wrong(what, "limits", hoursSetting(j.Limits.Zone, what))
	}
	return j.checkAfterwards(d, endpoints)
}

// hours reads the hours of a limit, or tells what is wrong with them.
func hours(lines []string, zone string) (*pace.Hours, string) {
	h, err := pace.ParseHours(lines, zone)
	if err != nil {
		return nil, err.Error()
	}
	return h, ""
}

// hoursSetting is the one of the two about hours that a mistake is in.
func hoursSetting(zone, what string) string {
	if zone != "" && strings.HasPrefix(what, "zone") {
		return "zone"
	}
	return "bandwidth"
}

// checkAfterwards finds what cannot become of this source.
func (j *Job) checkAfterwards(d *document, endpoints map[string]*Endpoint) error {
	if j.Afterwards == rule.KeepSource {
		return nil
	}
	end, _ := SplitPlace(j.Source)
	switch kind := endpoints[end].Kind; {
	case kind == KindList:
		return d.wrong("source is a list of web addresses, which can only be read: afterwards is \"keep\"", "afterwards")
	case kind == KindFolder && j.Afterwards == rule.TagSource:
		return d.wrong("source is a folder, and files have no tags: afterwards is \"keep\", \"remove\" or \"archive\"", "afterwards")
	case j.Proof == compare.BySize:
		return d.wrong("a size proves no copy, so that nothing could be done with the source: proof is \"stored-checksum\" or \"read-back\"", "proof")
	}
	return nil
}

// Print is a fingerprint of all that a plan follows from.
func (j *Job) Print() string {
	rules, err := toml.Marshal(j.Rules)
	if err != nil { // a struct of texts and numbers
		panic(err)
	}
	h := sha256.Sum256([]byte(strings.Join([]string{j.Name, j.Source, j.Lands(), string(rules)}, "\x00")))
	return hex.EncodeToString(h[:8])
}

// SplitPlace parts "endpoint/path" into the two.
func SplitPlace(place string) (endpoint, path string) {
	endpoint, path, _ = strings.Cut(strings.TrimLeft(place, "/"), "/")
	return endpoint, strings.Trim(path, "/")
}
