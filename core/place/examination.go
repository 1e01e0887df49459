package place

import (
	"context"
	"maps"
	"strings"
	"sync"
	"time"

	"lumtra/core/object"
)

// Examination gathers what an [Examiner] finds. Its parts may be tried side by side.
type Examination struct {
	mu    sync.Mutex
	facts Facts
}

// NewExamination begins one.
func NewExamination() *Examination {
	return &Examination{facts: Facts{At: time.Now(), Answers: map[Ask]Answer{}, Names: map[NameClass]Answer{}}}
}

// Answer notes what became of an ask.
func (x *Examination) Answer(a Ask, is Answer) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.facts.Answers[a] = is
}

// Conclude answers an ask by what became of a request that was right and one that was
// wrong: the wrong one must be turned away and the right one not.
func (x *Examination) Conclude(a Ask, right, wrong error) {
	switch {
	case right != nil:
		x.Answer(a, Refused)
	case wrong == nil:
		x.Answer(a, Ignored)
	default:
		x.Answer(a, Works)
	}
}

// Name notes what became of a name of a kind.
func (x *Examination) Name(c NameClass, is Answer) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.facts.Names[c] = is
}

// Server notes what the store calls itself.
func (x *Examination) Server(name string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.facts.Server = name
}

// Found is what became of an ask so far.
func (x *Examination) Found(a Ask) Answer {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.facts.Answers[a]
}

// Facts are what was found.
func (x *Examination) Facts() Facts {
	x.mu.Lock()
	defer x.mu.Unlock()
	f := x.facts
	f.Answers, f.Names = maps.Clone(f.Answers), maps.Clone(f.Names)
	return f
}

// Tagged answers whether tags are kept with the object key, which is there, by setting one
// and reading it back. try repeats what failed for a reason of no meaning.
func (x *Examination) Tagged(ctx context.Context, t Tagger, key string, try func(func() error) error) {
	var back map[string]string
	err := try(func() error { return t.SetTags(ctx, object.Ref{Key: key}, map[string]string{"bed": "reed"}) })
	if err == nil {
		err = try(func() (err error) {
			back, err = t.Tags(ctx, object.Ref{Key: key})
			return err
		})
	}
	switch kind := KindOf(err); {
	case err == nil:
		x.Answer(KeepsTags, Done(back["bed"] == "reed"))
	case kind == Unsupported || kind == Denied || kind == Other || kind == ServerFault || kind == NotFound:
		x.Answer(KeepsTags, Refused)
	}
}

// Done is the answer for what was done, or taken and not done.
func Done(is bool) Answer {
	if is {
		return Works
	}
	return Ignored
}

// FolderFor is where a name of a kind is tried, away from others.
func FolderFor(c NameClass) string {
	return "names-" + strings.ReplaceAll(string(c), " ", "-") + "/"
}

// What examinations write: two contents of one size.
var (
	Sample  = []byte("Saltmarsh, at low water: a bittern, far off.\n")
	Another = []byte("Saltmarsh, at low water: wigeon, close by...\n")
)
