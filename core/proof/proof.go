package proof

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"lumtra/core/agreed"
	"lumtra/core/atomicfile"
	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/inorder"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/retry"
	"lumtra/core/rule"
)

// The files of a proof, in its folder.
const (
	SummaryFile     = "proof.json"
	ManifestFile    = "manifest.jsonl"
	DifferencesFile = "differences.jsonl"
)

// Verdict is what was found of one key.
type Verdict string

// The verdicts.
const (
	Same      Verdict = "same"
	Different Verdict = "different"
	Missing   Verdict = "missing"      // at the target
	Extra     Verdict = "target-only"  // only at the target
	Unproven  Verdict = "not compared" // it could not be
	// Since is for what is not the same because it came, went or was changed after the plan was
	// made whose run is proven. It is the next plan's affair.
	Since Verdict = "changed since"
)

// UnmarshalText reads the verdict, also as proofs of older builds have it.
func (v *Verdict) UnmarshalText(text []byte) error {
	if *v = Verdict(text); *v == "extra" {
		*v = Extra
	}
	return nil
}

// Summary is a proof in short.
type Summary struct {
	Job    string         `json:"job"`
	Number int            `json:"number"`
	Method compare.Method `json:"method"`
	Source string         `json:"source"`
	Target string         `json:"target"`
	Began  time.Time      `json:"began"`
	Ended  time.Time      `json:"ended"`
	// Objects and bytes by verdict; Bytes are the source's, of extras the target's.
	Objects map[Verdict]int64 `json:"objects"`
	Bytes   map[Verdict]int64 `json:"bytes"`
	// Digest is the kind of digest that was computed of every object found the
	// same, "" for none.
	Digest string `json:"digest,omitempty"`
	// Both tells that both sides were to be the same, so that what is only at
	// the target counts as a difference.
	Both bool `json:"both_ways,omitempty"`
	// Ways are how both places keep what they promise, as far as that was known.
	Ways plan.Ways `json:"ways"`
	// Plan is the plan whose run was proven, and what it knew of the source and what has changed
	// there since were told apart; 0 where both places were compared as they are.
	Plan int `json:"plan,omitempty"`
	// Gaps is how much of either side could not be listed. With any, nothing
	// is proven of the whole.
	Gaps int64 `json:"gaps"`
}

// Holds tells whether everything at the source (with a plan: as the plan knew it) is at the
// target with the same content and, where that was asked for, nothing else is there.
func (s *Summary) Holds() bool {
	return s.Gaps == 0 && (!s.Both || s.Objects[Extra] == 0) &&
		s.Objects[Different]+s.Objects[Missing]+s.Objects[Unproven] == 0
}

// OnlyUnproven tells that a proof that does not hold found nothing wrong: something
// could not be compared.
func (s *Summary) OnlyUnproven() bool {
	return s.Objects[Unproven] > 0 && s.Objects[Different]+s.Objects[Missing] == 0 && (!s.Both || s.Objects[Extra] == 0)
}

// Line is a line of the manifest and of the differences.
type Line struct {
	// Key is the object's key as text; KeyBytes has it instead, in base64,
	// when it is not valid UTF-8 and JSON could not carry it unharmed.
	Key      string    `json:"key,omitempty"`
	KeyBytes []byte    `json:"key_bytes,omitempty"`
	Verdict  Verdict   `json:"verdict"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Sum      string    `json:"sum,omitempty"` // "crc64nvme:0123…"
	Digest   string    `json:"digest,omitempty"`
	digest   object.Sum
	// There is the target's state, of an object that is different.
	There *State `json:"there,omitempty"`
	Why   string `json:"why,omitempty"`
}

// State is what an object was when it was compared.
type State struct {
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	ETag     string    `json:"etag,omitempty"`
}

// Progress tells how far a proof has come. Any goroutine may read it.
type Progress struct {
	Objects, Bytes atomic.Int64
}

// Options are what the proof is of.
type Options struct {
	// Now is the clock that the proof is dated by; nil is the machine's.
	Now    func() time.Time
	Job    string
	Number int
	Method compare.Method
	// Workers is how many objects are compared at a time; 0 means a few per
	// processor.
	Workers int
	// Select leaves out what the job does not take; nil takes all. Trash is the
	// prefix at the target that holds what the job took away.
	Select *rule.Matcher
	Trash  string
	// Archive is the prefix at the source that holds what was sent before and put
	// away; "" for none.
	Archive string
	// Digest is found of what is at the target of every object found the same:
	// see [compare.WithDigest]; NoSum for none.
	Digest object.SumKind
	// Ways are for the summary.
	Ways plan.Ways
	// Doubts are what was in doubt before; nil for nothing. A difference says since when there is one.
	Doubts *agreed.Doubts
	// Both looks both ways: what is only at the target counts.
	Both bool
	// Plan is the plan whose run is proven, and Planned what it knew of both places; nil holds the
	// target to what is at the source now.
	Plan    int
	Planned *Planned
	// Gzips tells which objects were compressed on the way: their contents are
	// read at both sides, whatever the method. Nil for none.
	Gzips func(key string) bool
}

// Run compares the two places along their catalogs and writes the proof's
// files into dir, which it makes. Differences are the result, not an error.
func Run(ctx context.Context, dir string, source, target place.Place, from, to *catalog.Catalog, progress *Progress,
	opts Options) (*Summary, error) {
	if opts.Now == nil {
		opts.Now = time.Now
	}
	d, err := createDocuments(dir, opts.Digest)
	if err != nil {
		return nil, err
	}
	defer d.close()
	sum := &Summary{Job: opts.Job, Number: opts.Number, Method: opts.Method, Both: opts.Both, Source: source.Name(),
		Target: target.Name(), Ways: opts.Ways,
		Began: opts.Now(), Objects: map[Verdict]int64{}, Bytes: map[Verdict]int64{},
		Gaps: from.Info.Missed + to.Info.Missed}
	if opts.Workers <= 0 {
		opts.Workers = 4 * runtime.NumCPU()
	}
	if opts.Digest != object.NoSum {
		sum.Digest = opts.Digest.String()
	}
	c := &comparing{source: source, target: target, method: opts.Method, opts: opts,
		merge: catalog.NewMerge(from.Cursor(""), to.Cursor("")), before: opts.Doubts.Cursor("")}
	if p := opts.Planned; p != nil {
		sum.Plan = opts.Plan
		c.knewSource, c.knewTarget = knownOf(p.Source), knownOf(p.Target)
		if p.Left != nil {
			c.left, c.doubts = p.Left.States.Cursor(""), p.Left.Doubts.Cursor("")
		}
	}
	err = inorder.Map(ctx, opts.Workers, c.next, c.compare, func(l Line) error {
		sum.Objects[l.Verdict]++
		sum.Bytes[l.Verdict] += l.Size
		if progress != nil {
			progress.Objects.Add(1)
			progress.Bytes.Add(l.Size)
		}
		return d.write(l)
	})
	sum.Ended = opts.Now()
	if err := errors.Join(err, c.merge.Err(), c.before.Err(), c.knewSource.err(), c.knewTarget.err(), c.leftErr(),
		d.finish()); err != nil {
		return nil, err
	}
	return sum, sum.write(dir)
}

// write writes the document for people, and the summary for programs, which comes last: a
// proof that has one is whole.
func (s *Summary) write(dir string) error {
	if err := s.writeDocument(dir); err != nil {
		return err
	}
	return atomicfile.WriteJSON(filepath.Join(dir, SummaryFile), s)
}

// documents are what a proof writes down object by object.
type documents struct {
	manifest, differences, folders *jsonLines
	tree                           *spans
	digests                        *digests // nil for none
}

// createDocuments begins all of them in a folder, which is made if need be.
func createDocuments(dir string, digest object.SumKind) (_ *documents, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	d := &documents{}
	defer func() {
		if err != nil {
			d.close()
		}
	}()
	for name, to := range map[string]**jsonLines{ManifestFile: &d.manifest, DifferencesFile: &d.differences,
		FoldersFile: &d.folders} {
		if *to, err = create(filepath.Join(dir, name)); err != nil {
			return nil, err
		}
	}
	d.tree = &spans{out: d.folders}
	if digest != object.NoSum {
		d.digests, err = createDigests(dir, digest)
	}
	return d, err
}

// write writes what there is to say of one object.
func (d *documents) write(l Line) error {
	if l.Verdict != Same {
		if err := d.differences.write(l); err != nil {
			return err
		}
		if err := d.tree.add(&l, d.differences.size); err != nil {
			return err
		}
	} else if d.digests != nil {
		if err := d.digests.write(l.digest, l.key()); err != nil {
			return err
		}
	}
	return d.manifest.write(l)
}

// finish writes out what waits in memory.
func (d *documents) finish() error {
	err := errors.Join(d.manifest.finish(), d.differences.finish(), d.tree.finish())
	if err == nil && d.digests != nil {
		err = d.digests.finish()
	}
	return err
}

func (d *documents) close() {
	for _, o := range []*jsonLines{d.manifest, d.differences, d.folders} {
		if o != nil {
			o.file.Close()
		}
	}
	if d.digests != nil {
		d.digests.file.Close()
	}
}

type comparing struct {
	source, target place.Place
	method         compare.Method
	opts           Options
	merge          *catalog.Merge
	// knewSource and knewTarget are what the plan knew; nil where that does not matter.
	knewSource, knewTarget *known
	// left is how a run left both sides, of a plan that goes both ways, and doubts what of that is
	// in doubt; nil for others.
	left   *agreed.Cursor[agreed.State]
	doubts *agreed.Cursor[agreed.Doubt]
	// before are the doubts there were.
	before *agreed.Cursor[agreed.Doubt]
}

// pair is a key with what either side has of it, and what happened to it since the plan.
type pair struct {
	a, b  *object.Entry
	since string
	// doubt says since when it is in doubt; "" for one that is not.
	doubt string
}

func (c *comparing) next() (pair, bool) {
	for c.merge.Next() {
		// A link or a device is not content: nobody promised to copy it.
		if a := c.merge.A; a != nil && a.Kind == object.Special {
			continue
		}
		if !c.takes(c.merge.A, c.merge.B) {
			continue
		}
		p := pair{a: clone(c.merge.A), b: clone(c.merge.B), since: c.since(c.merge.A, c.merge.B)}
		if p.a != nil && p.b != nil {
			if d := c.before.At(p.a.Key); d != nil {
				p.doubt = d.Since()
			}
		}
		return p, true
	}
	return pair{}, false
}

// takes tells whether a key is the job's affair.
func (c *comparing) takes(a, b *object.Entry) bool {
	m := c.opts.Select
	switch {
	case b != nil && c.opts.Trash != "" && strings.HasPrefix(b.Key, c.opts.Trash+"/"):
		return false
	case a != nil && c.opts.Archive != "" && strings.HasPrefix(a.Key, c.opts.Archive+"/"):
		return false
	case m == nil:
		return true
	case a == nil:
		taken, _ := m.TakesName(b)
		return taken
	}
	taken, _ := m.Takes(a, nil)
	return taken
}

// clone gives an entry of its own, since the merge overwrites its.
func clone(e *object.Entry) *object.Entry {
	if e == nil {
		return nil
	}
	own := *e
	return &own
}

// compare looks at a pair. What is not the same and has changed since the plan is no difference.
func (c *comparing) compare(ctx context.Context, p pair) Line {
	l := c.look(ctx, p)
	if l.Verdict != Same && p.since != "" {
		l.Verdict, l.Why, l.There = Since, p.since, nil
	}
	return l
}

func (c *comparing) look(ctx context.Context, p pair) Line {
	switch {
	case p.a == nil:
		return line(p.b, Extra, "only at the target")
	case p.b == nil:
		return line(p.a, Missing, "not at the target")
	}
	var res compare.Result
	err := retry.Usual.Do(ctx, func(int) (err error) {
		if c.opts.Gzips != nil && c.opts.Gzips(p.a.Key) {
			res, err = compare.Gzipped(ctx, c.opts.Digest, c.source, p.a, c.target, p.b)
			return err
		}
		res, err = compare.WithDigest(ctx, c.method, c.opts.Digest, c.source, p.a, c.target, p.b)
		return err
	})
	if compare.WentBad(err, c.target) {
		var bad *place.Error
		errors.As(err, &bad)
		res, err = compare.Result{Why: "it went bad at the target: " + bad.Reason()}, nil
	}
	var l Line
	switch {
	case err != nil:
		l = line(p.a, Unproven, err.Error())
	case res.Same:
		l = line(p.a, Same, "")
	default:
		l = line(p.a, Different, res.Why)
		l.There = &State{p.b.Size, p.b.Modified.UTC(), p.b.ETag}
		if p.doubt != "" {
			l.Why += "; " + p.doubt
		}
	}
	if res.Sum.Kind != object.NoSum {
		l.Sum = res.Sum.String()
	}
	if res.Digest.Kind != object.NoSum {
		l.digest, l.Digest = res.Digest, res.Digest.String()
	}
	return l
}

// key is the object's key, whatever bytes it has.
func (l *Line) key() string {
	if l.KeyBytes != nil {
		return string(l.KeyBytes)
	}
	return l.Key
}

func line(e *object.Entry, v Verdict, why string) Line {
	l := Line{Key: e.Key, Verdict: v, Size: e.Size, Modified: e.Modified.UTC(), Why: why}
	if !utf8.ValidString(e.Key) {
		l.Key, l.KeyBytes = "", []byte(e.Key)
	}
	return l
}

// jsonLines is a file of one JSON document a line.
type jsonLines struct {
	file *os.File
	out  *bufio.Writer
	enc  *json.Encoder
	size int64 // written so far
}

// Write counts what the encoder writes.
func (j *jsonLines) Write(p []byte) (int, error) {
	n, err := j.out.Write(p)
	j.size += int64(n)
	return n, err
}

func create(path string) (*jsonLines, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	j := &jsonLines{file: f, out: bufio.NewWriterSize(f, 128<<10)}
	j.enc = json.NewEncoder(j)
	return j, nil
}

func (j *jsonLines) write(l Line) error { return j.enc.Encode(l) }

func (j *jsonLines) finish() error {
	return errors.Join(j.out.Flush(), j.file.Sync())
}

// Differences is a walk through a proof's differences, in the order of their keys.
type Differences struct {
	file *os.File
	dec  *json.Decoder
}

// OpenDifferences opens those of the proof in dir.
func OpenDifferences(dir string) (*Differences, error) {
	return openLines(filepath.Join(dir, DifferencesFile))
}

func openLines(path string) (*Differences, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	return &Differences{f, json.NewDecoder(bufio.NewReader(f))}, nil
}

// Each gives each line of the proof in dir to f, in the order of their keys: of all objects, or
// of those alone that are not the same.
func Each(dir string, all bool, f func(*Line) error) error {
	file := DifferencesFile
	if all {
		file = ManifestFile
	}
	d, err := openLines(filepath.Join(dir, file))
	if err != nil {
		return err
	}
	defer d.Close()
	for {
		l, err := d.Next()
		if err == nil && l != nil {
			err = f(l)
		}
		if err != nil || l == nil {
			return err
		}
	}
}

// Next is the next line, nil after the last.
func (d *Differences) Next() (*Line, error) {
	l := &Line{}
	if err := d.dec.Decode(l); err == io.EOF {
		return nil, nil
	} else if err != nil {
		return nil, fmt.Errorf("%s: %w", d.file.Name(), err)
	}
	if l.KeyBytes != nil {
		l.Key = string(l.KeyBytes)
	}
	return l, nil
}

// Close closes the file.
func (d *Differences) Close() error { return d.file.Close() }

// ReadDifferences reads up to most lines of a proof's differences.
func ReadDifferences(dir string, most int) ([]Line, error) {
	d, err := OpenDifferences(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var lines []Line
	for len(lines) < most {
		l, err := d.Next()
		if err != nil || l == nil {
			return lines, err
		}
		lines = append(lines, *l)
	}
	return lines, nil
}

// Read reads the summary of the proof in dir.
func Read(dir string) (*Summary, error) {
	raw, err := os.ReadFile(filepath.Join(dir, SummaryFile))
	if err != nil {
		return nil, err
	}
	s := &Summary{}
	return s, json.Unmarshal(raw, s)
}
