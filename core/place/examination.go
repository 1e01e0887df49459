package place

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"lumtra/core/object"
)

// Examination gathers what one pass of an [Examiner] finds. Its parts may be tried side by side.
type Examination struct {
	mu     sync.Mutex
	at     time.Time
	server string
	meta   MetaLimits
	asks   answers[Ask]
	names  answers[NameClass]
}

// answers are what was found of questions, and which could not be asked in peace: no answer to those is
// known.
type answers[K comparable] struct {
	is        map[K]Answer
	disturbed map[K]bool
}

func newAnswers[K comparable]() answers[K] { return answers[K]{map[K]Answer{}, map[K]bool{}} }

// agree takes what two passes have found alike, of what it lacks, and tells whether anything else is open.
func (all *answers[K]) agree(a, b *answers[K]) (open bool) {
	asked := map[K]bool{}
	for _, x := range []*answers[K]{a, b} {
		for k := range x.is {
			asked[k] = true
		}
		maps.Copy(asked, x.disturbed)
	}
	for k := range asked {
		switch is := a.is[k]; {
		case all.is[k] != Untold:
		case is != Untold && is == b.is[k] && !a.disturbed[k] && !b.disturbed[k]:
			all.is[k] = is
		default:
			open = true
		}
	}
	return open
}

// NewExamination begins one.
func NewExamination() *Examination {
	return &Examination{at: time.Now(), asks: newAnswers[Ask](), names: newAnswers[NameClass]()}
}

// MostPasses is how often everything is asked at most.
const MostPasses = 4

// passTime is for how long new passes begin: a line on which all of them are disturbed is not waited for.
const passTime = 20 * time.Second

// PassName is what the n-th pass is called, from 0.
func PassName(n int) string { return fmt.Sprint("pass-", n+1) }

// LeftBehind is the error for what an examination could not tidy up; nil for nil.
func LeftBehind(err error) error {
	if err == nil {
		return nil
	}
	return &leftBehind{err}
}

type leftBehind struct{ error }

func (l *leftBehind) Unwrap() error { return l.error }

// IsLeftBehind tells that something of an examination may be left.
func IsLeftBehind(err error) bool {
	var l *leftBehind
	return errors.As(err, &l)
}

// Examined is what is believed of a store: what two passes on end have found alike, and nothing
// disturbed. What a line, a load or a moment has made of one request is no fact; what comes out
// otherwise from pass to pass is not known, and the facts are open then. pass is called with a name of
// its own for each.
func Examined(ctx context.Context, pass func(name string) (*Examination, error)) (Facts, error) {
	settled, open := NewExamination(), true
	var last *Examination
	var failed error
	for n := 0; n < MostPasses && open && ctx.Err() == nil && (n < 2 || time.Since(settled.at) < passTime); n++ {
		x, err := pass(PassName(n))
		if failed = err; err != nil && !Disturbing(err) {
			break
		}
		if err != nil { // it came to an end before its end, and the next one begins anew
			last = nil
			continue
		}
		if settled.server = x.server; last != nil {
			if settled.meta = x.meta; x.meta != last.meta {
				settled.meta = MetaLimits{}
			}
			asks := settled.asks.agree(&last.asks, &x.asks)
			open = settled.names.agree(&last.names, &x.names) || asks
		}
		last = x
	}
	f := settled.Facts()
	f.Open = open
	return f, errors.Join(failed, ctx.Err())
}

// Disturbing tells of an error that says nothing of what was asked: the question did not come
// through, or the store had trouble of its own.
func Disturbing(err error) bool {
	if err == nil {
		return false
	}
	switch KindOf(err) {
	case Unreachable, Throttled, Cancelled:
		return true
	case ServerFault:
		var e *Error
		return !errors.As(err, &e) || e.Status != http.StatusNotImplemented
	}
	return false
}

// Answer notes what became of an ask.
func (x *Examination) Answer(a Ask, is Answer) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.asks.is[a] = is
}

// Disturb notes that asks could not be asked in peace.
func (x *Examination) Disturb(asks ...Ask) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, a := range asks {
		x.asks.disturbed[a] = true
	}
}

// Refuse answers asks by an error that turned them all away.
func (x *Examination) Refuse(err error, asks ...Ask) {
	if Disturbing(err) {
		x.Disturb(asks...)
		return
	}
	for _, a := range asks {
		x.Answer(a, Refused)
	}
}

// Conclude answers an ask by what became of a request that was right and one that was
// wrong: the right one must be taken, and the wrong one turned away, for being wrong if kinds
// say how that is told.
func (x *Examination) Conclude(a Ask, right, wrong error, kinds ...ErrorKind) {
	switch {
	case Disturbing(right) || Disturbing(wrong):
		x.Disturb(a)
	case right != nil:
		x.Refuse(right, a)
	case wrong == nil:
		x.Answer(a, Ignored)
	case len(kinds) > 0 && !slices.Contains(kinds, KindOf(wrong)):
		x.Answer(a, Refused)
	default:
		x.Answer(a, Works)
	}
}

// Name notes what became of a name of a kind.
func (x *Examination) Name(c NameClass, is Answer) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.names.is[c] = is
}

// DisturbName notes that a kind of name could not be tried in peace.
func (x *Examination) DisturbName(c NameClass) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.names.disturbed[c] = true
}

// Limits notes how much metadata are taken.
func (x *Examination) Limits(m MetaLimits) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.meta = m
}

// Server notes what the store calls itself.
func (x *Examination) Server(name string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.server = name
}

// Found is what became of an ask so far.
func (x *Examination) Found(a Ask) Answer {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.asks.is[a]
}

// Facts are what was found.
func (x *Examination) Facts() Facts {
	x.mu.Lock()
	defer x.mu.Unlock()
	return Facts{At: x.at, Server: x.server, Meta: x.meta, Answers: maps.Clone(x.asks.is),
		Names: maps.Clone(x.names.is)}
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
	if err != nil {
		x.Refuse(err, KeepsTags)
		return
	}
	x.Answer(KeepsTags, Done(back["bed"] == "reed"))
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
