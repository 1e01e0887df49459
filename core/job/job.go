package job

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/pelletier/go-toml/v2"

	"lumtra/core/compare"
	"lumtra/core/nearest"
	"lumtra/core/object"
	"lumtra/core/pace"
	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
	"lumtra/core/rule"
	"lumtra/core/schedule"
)

// Job says what is to be copied where, and how.
type Job struct {
	// Name is the file's name without ".toml".
	Name string `toml:"-"`
	// Source and Target are places: "endpoint/bucket/path", or "/path" for one of this
	// machine. A "/" at the end of either means nothing.
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
	ReadTwice bool `toml:"read-twice,omitempty"`
	// Template marks a job that others are made from, and that is never run.
	Template bool   `toml:"template,omitempty"`
	Limits   Limits `toml:"limits"`
	// When says when the job starts by itself; Schedule is what that comes to.
	When     When               `toml:"when"`
	Schedule *schedule.Schedule `toml:"-"`
	// SurveyAge is how old a survey may be to be planned from again, as an age
	// such as "2h"; "" means that every plan surveys anew.
	SurveyAge string `toml:"survey-age,omitempty"`
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

// load reads the job file at path; shown is how messages call the file.
// Endpoints are those the places may name.
func load(path, shown string, endpoints map[string]*kind.Settings) (*Job, error) {
	d, err := readDocument(path, shown)
	if err != nil {
		return nil, err
	}
	return d.job(base(path), endpoints)
}

// Parse reads a job from text as if it stood in a file of that name.
// dir is the workspace's folder, where calendar files that it names lie.
func Parse(dir, name, text string, endpoints map[string]*kind.Settings) (*Job, error) {
	d := &document{file: name + ".toml", raw: []byte(text)}
	if dir != "" {
		d.path = filepath.Join(dir, jobsFolder, d.file)
	}
	return d.job(name, endpoints)
}

// job reads the document. With a mistake the job is there as far as it could be
// read, for showing; it is not for use.
func (d *document) job(name string, endpoints map[string]*kind.Settings) (*Job, error) {
	j := New(name)
	d.raw = []byte(renamed(string(d.raw), rule.OldNames))
	if err := d.decode(j); err != nil {
		return j, err
	}
	j.TakeOldValues()
	err, when := j.check(d, endpoints), j.checkWhen(d)
	if err == nil {
		err = when
	}
	return j, err
}

func (j *Job) check(d *document, endpoints map[string]*kind.Settings) error {
	if !names.MatchString(j.Name) {
		return d.wrong("the file's name is the job's: " + nameRule)
	}
	for _, side := range []struct{ name, place string }{{"source", j.Source}, {"target", j.Target}} {
		end, path := SplitPlace(side.place)
		switch e := endpoints[end]; {
		case side.place == "":
			return d.wrong(fmt.Sprintf("%s is missing: a place such as \"studio/masters\"", side.name), side.name)
		case e == nil:
			return d.wrong(fmt.Sprintf("%s names the endpoint %q, which endpoints.toml does not have%s", side.name,
				end, nearest.Hint(end, endpointNames(endpoints))), side.name)
		case kinds.Of(e).Buckets && path == "":
			return d.wrong(fmt.Sprintf("%s names no bucket or container: write \"%s/bucket/path\"", side.name, end),
				side.name)
		}
	}
	from, to := kinds.Of(sideOf(j.Source, endpoints)), kinds.Of(sideOf(j.Target, endpoints))
	if to.ReadOnly {
		return d.wrong("target is "+to.Thing+", which can only be read", "target")
	}
	if _, path := SplitPlace(j.Source); j.Landing == rule.WithFolder && path == "" {
		return d.wrong("landing is \"folder\", but the source is a whole endpoint, which has no name of its own to "+
			"land under; write \"inside\"", "landing")
	}
	if here, there := strings.TrimRight(j.Source, "/")+"/", j.Lands()+"/"; strings.HasPrefix(here, there) ||
		strings.HasPrefix(there, here) {
		return d.wrong("source and target are the same place, or one lies in the other", "target")
	}
	if setting, what := j.Rules.Check(); what != "" {
		return d.wrong(what, strings.Split(setting, ".")...)
	}
	if len(j.As.Gzip) > 0 && !to.Encodes {
		return d.wrong("gzip is for stores, which keep that content is compressed; "+to.Thing+" does not", "as", "gzip")
	}
	if j.Direction == rule.TwoWay && from.ReadOnly {
		return d.wrong("source is "+from.Thing+", which can only be read: direction is \"one-way\"", "direction")
	}
	if _, ok := rule.ParseAge(j.SurveyAge); j.SurveyAge != "" && !ok {
		return d.wrong(fmt.Sprintf("survey-age is %q; it is an age such as \"2h\" or \"1d\"", j.SurveyAge),
			"survey-age")
	}
	if j.Proof != compare.BySize && j.Proof != compare.ByStoredSum && j.Proof != compare.ByReadBack {
		return d.wrong(fmt.Sprintf("proof is %q; it is \"size\", \"stored-checksum\" or \"read-back\"", j.Proof),
			"proof")
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
			return d.wrong(fmt.Sprintf("part-size is %q; it reads like \"16MiB\", between 5MiB and 5GiB", text),
				"limits", "part-size")
		}
		j.Limits.PartBytes = int64(n)
	}
	var err error
	if j.Limits.Hours, err = pace.ParseHours(j.Limits.Bandwidth, j.Limits.Zone); err != nil {
		return d.wrong(err.Error(), "limits", pace.HoursSetting(j.Limits.Zone, err))
	}
	if err := j.checkPack(d, to); err != nil {
		return err
	}
	return j.checkAfterwards(d, from)
}

// sideOf are the settings of the endpoint a place lies at.
func sideOf(at string, endpoints map[string]*kind.Settings) *kind.Settings {
	end, _ := SplitPlace(at)
	return endpoints[end]
}

// checkAfterwards finds what cannot become of this source.
func (j *Job) checkAfterwards(d *document, from *kind.Kind) error {
	if j.Afterwards == rule.KeepSource {
		return nil
	}
	switch without := from.Without[place.Tags]; {
	case from.ReadOnly:
		return d.wrong("source is "+from.Thing+", which can only be read: afterwards is \"keep\"", "afterwards")
	case without != "" && j.Afterwards == rule.TagSource:
		return d.wrong("source is "+from.Thing+", and "+without+": afterwards is \"keep\", \"delete\" or \"archive\"",
			"afterwards")
	case j.Proof == compare.BySize:
		return d.wrong("a size proves no copy, so that nothing could be done with the source: proof is "+
			"\"stored-checksum\" or \"read-back\"", "proof")
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

// endpointNames are those that have settings.
func endpointNames(endpoints map[string]*kind.Settings) []string {
	return slices.DeleteFunc(slices.Collect(maps.Keys(endpoints)), func(n string) bool { return n == kind.Local })
}

// SplitPlace parts "endpoint/path" into the two. "/path" is a path of this machine: its
// endpoint is [kind.Local].
func SplitPlace(place string) (endpoint, path string) {
	endpoint, path, _ = strings.Cut(place, "/")
	return endpoint, strings.Trim(path, "/")
}
