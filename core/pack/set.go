package pack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Each in place of a pack's name means all packs of that ending in a folder: "store/bucket/tiles/*.tar.zst!"
// is what is in all of them, and what lies there beside them. See [Set].
const Each = "*"

// IsSet tells that the name of a pack stands for several.
func IsSet(file string) bool {
	name := path.Base(file)
	_, ok := FormOf(name)
	return ok && strings.HasPrefix(name, Each+".tar") || ok && strings.HasPrefix(name, Each+".t") &&
		strings.Count(name, ".") == 1
}

// Mistaken tells that the name of a pack has a "*" and stands for one all the same, and what to write where
// several were meant; "" where it has none.
func Mistaken(file string) string {
	name := path.Base(file)
	form, _ := FormOf(name)
	if !strings.Contains(name, Each) || IsSet(file) {
		return ""
	}
	return fmt.Sprintf("there is no pack called %q; several packs in a folder are %q", object.Display(name),
		Each+"."+string(form)+Inside)
}

// Set is what is in several packs in one folder, and what lies beside them, as one place: members go by
// their whole names, wherever they lie. Where a name is there more than once, what lies beside the
// packs counts, and then the first pack by name. What goes into packs, a run packs; what is written here
// lands beside them.
//
// An entry of something in a pack has an ETag that tells the pack: see [Set.PackOf].
type Set struct {
	packs   place.Place // where they lie
	loose   place.Place // where the rest does, with the prefix
	ending  string      // of the packs' names
	prefix  string      // of a folder in all of them, with "/" at its end
	keeping Keeping

	mu     sync.Mutex
	known  bool
	places map[string]*Place
	firsts map[string]string // the first name in each pack
	names  []string          // of the packs, in order
}

// SetOf is the set that a place is, nil for others.
func SetOf(p place.Place) *Set { return place.Within[*Set](p) }

// NewSet is the set of the packs of one ending, such as ".tar.zst", at a place; loose is where in it the
// folder lies that is meant, and folder its name, "" for all. It asks nothing.
func NewSet(packs place.Place, ending string, loose place.Place, folder string, keeping Keeping) *Set {
	if folder = strings.Trim(folder, "/"); folder != "" {
		folder += "/"
	}
	return &Set{packs: packs, loose: loose, ending: ending, prefix: folder, keeping: keeping}
}

// Wrapped is where what is in no pack lies.
func (s *Set) Wrapped() place.Place { return s.loose }

// Packs is where the packs lie.
func (s *Set) Packs() place.Place { return s.packs }

// Name is that of the folder, with what tells that the inside of its packs is meant.
func (s *Set) Name() string {
	name := s.packs.Name() + "/" + Each + s.ending + Inside
	if s.prefix != "" {
		name += "/" + strings.TrimSuffix(s.prefix, "/")
	}
	return name
}

// Abilities are those of where it lies, as far as packs have them, too.
func (s *Set) Abilities() place.Abilities {
	a := s.loose.Abilities()
	a.Protocol, a.KeepsLinks, a.Tree, a.Encodings = "packs", true, true, false
	if a.MaxKey == 0 || a.MaxKey > maxName {
		a.MaxKey = maxName
	}
	return a
}

// Without has what packs cannot.
func (s *Set) Without() map[place.Skill]string {
	const why = "what is in packs has none"
	return map[place.Skill]string{place.Versions: why, place.Tags: why, place.Metadata: why, place.Links: why,
		place.Restores: why, place.Folders: "folders in packs come with what is in them"}
}

// CheckName tells which names packs cannot hold.
func (s *Set) CheckName(key string) error {
	if err := CheckName(s.prefix + key); err != nil {
		return place.NewError(s.Name(), "write", key, place.BadName, err)
	}
	return nil
}

// isPack tells that a key, relative to where packs lie, is the name of one.
func (s *Set) isPack(key string) bool {
	return strings.HasSuffix(key, s.ending) && !strings.Contains(key, "/") && len(key) > len(s.ending)
}

// PackOf is the name of the pack that an entry lies in, "" for what lies beside the packs.
func (s *Set) PackOf(e *object.Entry) string {
	if e == nil {
		return ""
	}
	name, _, _ := strings.Cut(e.ETag, s.ending+Inside)
	if name += s.ending; s.isPack(name) && strings.HasPrefix(e.ETag, name+Inside) {
		return name
	}
	return ""
}

// Pack is one of the packs by its name, which may become one.
func (s *Set) Pack(name string) *Place {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pack(name)
}

func (s *Set) pack(name string) *Place {
	p := s.places[name]
	if p == nil {
		p = In(s.packs, name, s.prefix)
		p.of = name
		p.Keep(s.keeping)
		if s.places == nil {
			s.places = map[string]*Place{}
		}
		s.places[name] = p
	}
	return p
}

// Grew has the packs be looked for anew, of which there may be more; those that are open stay so.
func (s *Set) Grew() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known, s.firsts, s.names = false, nil, nil
}

// Renew has the packs be looked for, and opened, anew: they were written since.
func (s *Set) Renew() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known, s.firsts, s.names = false, nil, nil
	for _, p := range s.places {
		p.Renew()
	}
}

// All are the names of the packs that are there, in order.
func (s *Set) All(ctx context.Context) ([]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known {
		return s.names, nil
	}
	var names []string
	for e, err := range s.packs.List(ctx, "", place.ListOptions{Shallow: true}) {
		if err != nil {
			return nil, err
		}
		if e.Kind == object.Object && s.isPack(e.Key) {
			names = append(names, e.Key)
			p := s.pack(e.Key)
			p.mu.Lock()
			p.listed = &e
			p.mu.Unlock()
		}
	}
	slices.Sort(names)
	s.known, s.names = true, names
	return names, nil
}

// opens is how many packs are opened at once.
const opens = 16

// begin finds the packs and the first name in each of those not looked into yet.
func (s *Set) begin(ctx context.Context) ([]string, map[string]string, error) {
	names, err := s.All(ctx)
	if err != nil {
		return nil, nil, err
	}
	s.mu.Lock()
	firsts := s.firsts
	s.mu.Unlock()
	if firsts != nil {
		return names, firsts, nil
	}
	found := make([]string, len(names))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(opens)
	for i, name := range names {
		g.Go(func() error {
			p := s.Pack(name)
			x, err := p.Pack(ctx)
			if err != nil {
				return p.outerWrong("list", "", err)
			}
			defer x.raw.forget() // so that thousands can be open
			for m, err := range x.Walk(ctx, "", false) {
				found[i] = m.Name
				return err
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, nil, err
	}
	firsts = map[string]string{}
	for i, name := range names {
		firsts[name] = found[i]
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.firsts = firsts
	return names, firsts, nil
}

// where tells what lies under a key: beside the packs, or in the first of them that has it.
func (s *Set) where(ctx context.Context, ref object.Ref) (place.Place, object.Entry, error) {
	if name := s.PackOf(&object.Entry{ETag: ref.IfMark}); name != "" {
		p := s.Pack(name)
		e, err := p.Stat(ctx, ref)
		return p, e, err
	}
	e, err := s.statLoose(ctx, ref)
	if err == nil || place.KindOf(err) != place.NotFound {
		return s.loose, e, err
	}
	names, firsts, failed := s.begin(ctx)
	if failed != nil {
		return nil, e, failed
	}
	for _, name := range names {
		p := s.Pack(name)
		if !p.broken() && (firsts[name] == "" || firsts[name] > s.prefix+ref.Key) {
			continue
		}
		e, failed := p.Stat(ctx, ref)
		switch {
		case failed == nil:
			return p, e, nil
		case p.broken(): // another may have it
			err = failed
		case place.KindOf(failed) != place.NotFound:
			return p, e, failed
		}
	}
	return s.loose, e, err
}

// statLoose describes what lies beside the packs.
func (s *Set) statLoose(ctx context.Context, ref object.Ref) (object.Entry, error) {
	if s.isPack(s.prefix + ref.Key) {
		return object.Entry{}, place.NewError(s.Name(), "stat", ref.Key, place.NotFound, nil)
	}
	return s.loose.Stat(ctx, ref)
}

// Stat describes what lies under a key.
func (s *Set) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	_, e, err := s.where(ctx, ref)
	return e, err
}

// Read reads what lies under a key.
func (s *Set) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	if !s.isPack(s.prefix+key) && s.PackOf(&object.Entry{ETag: opts.IfMark}) == "" {
		r, e, err := s.loose.Read(ctx, key, opts)
		if err == nil || place.KindOf(err) != place.NotFound {
			return r, e, err
		}
	}
	p, e, err := s.where(ctx, object.Ref{Key: key, IfMark: opts.IfMark})
	if err != nil {
		return nil, e, err
	}
	return p.Read(ctx, key, opts)
}

// Write writes what lies beside the packs.
func (s *Set) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	if s.isPack(s.prefix + key) {
		return object.Entry{}, place.NewError(s.Name(), "write", key, place.BadName,
			errors.New("it is the name of a pack here"))
	}
	return s.loose.Write(ctx, key, body, size, opts)
}

// Remove removes what lies beside the packs, and marks as gone what is in them, pack by pack.
func (s *Set) Remove(ctx context.Context, refs ...object.Ref) []error {
	errs := make([]error, len(refs))
	in := map[place.Place][]int{}
	var order []place.Place
	for i, ref := range refs {
		p, _, err := s.where(ctx, object.Ref{Key: ref.Key, IfMark: ref.IfMark})
		switch {
		case err == nil:
			if in[p] == nil {
				order = append(order, p)
			}
			in[p] = append(in[p], i)
		case place.KindOf(err) != place.NotFound:
			errs[i] = err
		}
	}
	for _, p := range order {
		some := make([]object.Ref, 0, len(in[p]))
		for _, i := range in[p] {
			some = append(some, refs[i])
		}
		for k, err := range p.Remove(ctx, some...) {
			errs[in[p][k]] = err
		}
	}
	if len(order) > 0 {
		s.Renew()
	}
	return errs
}

// Beside are the folders and links that the packs hold, pack by pack.
func (s *Set) Beside(ctx context.Context) iter.Seq2[Member, error] {
	return func(yield func(Member, error) bool) {
		names, err := s.All(ctx)
		if err != nil {
			yield(Member{}, err)
			return
		}
		for _, name := range names {
			x, err := s.Pack(name).Pack(ctx)
			if err != nil {
				yield(Member{}, err)
				return
			}
			for m, err := range x.Walk(ctx, s.prefix, false) {
				if (err != nil || m.Kind == Folder || m.Kind == Symlink) && !yield(m, err) {
					return
				}
			}
			x.raw.forget()
		}
	}
}
