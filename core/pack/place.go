package pack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
	"sync"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Inside behind a pack's name means what is in it: "store/bucket/takes.tar.zst!" or, of a folder in
// it, "store/bucket/takes.tar.zst!/tide".
const Inside = "!"

// Split parts a path into that of a pack and the folder in it; ok is false for a path that does not
// lead into one.
func Split(path string) (pack, folder string, ok bool) {
	for at := 0; ; {
		i := strings.Index(path[at:], Inside)
		if i < 0 {
			return "", "", false
		}
		at += i
		rest := path[at+len(Inside):]
		if _, known := FormOf(path[:at]); known && (rest == "" || rest[0] == '/') {
			return path[:at], strings.Trim(rest, "/"), true
		}
		at += len(Inside)
	}
}

// Leads tells that a path leads into a pack.
func Leads(path string) bool {
	_, _, ok := Split(path)
	return ok
}

// As is a path with the last part made the inside of a pack of a form; with "" it is made a folder
// again. What is in a folder of a pack is then in the pack itself.
func As(path string, form Form) string {
	file, _, in := Split(path)
	if !in {
		file = strings.TrimRight(path, "/")
	}
	if in && IsSet(file) {
		file, in = file[:strings.LastIndexByte("/"+file, '/')], false
		file = strings.TrimRight(file, "/")
	}
	for _, ending := range []string{".tar", ".tar.zst", ".tzst", ".tar.gz", ".tgz"} {
		if bare, ok := strings.CutSuffix(file, ending); ok && in {
			file = bare
			break
		}
	}
	if form == "" {
		return file
	}
	return file + "." + string(form) + Inside
}

// AsSet is a path with the packs of a form in it as what is meant: see [Set].
func AsSet(path string, form Form) string {
	return As(path, "") + "/" + Each + "." + string(form) + Inside
}

// Place is the inside of a pack as a place. It is read; what goes into it, a run packs.
type Place struct {
	outer   place.Place
	key     string
	prefix  string // of a folder in it, with "/" at its end
	keeping Keeping
	// of is the name of the pack in the [Set] that it belongs to, "" for one by itself.
	of string

	mu     sync.Mutex
	opened *Pack
	// listed is the object as a listing told of it, which spares asking once.
	listed *object.Entry
}

// Keeping is where on this machine lies what is to be known of packs beside them. The zero value keeps nothing,
// and has what is only there for a while among all temporary files.
type Keeping struct {
	// Index names the file for the index of an archive, by its key, that has none of its own; nil where none is made.
	Index func(key string) string
	// Dir see [Options].
	Dir string
}

// index is the file for the index of an archive, "" where none is made.
func (k Keeping) index(key string) string {
	if k.Index == nil {
		return ""
	}
	return k.Index(key)
}

// In is the inside of the pack that an object of a place is, or may become; folder is one in it, "" for
// all. It asks nothing.
func In(outer place.Place, key, folder string) *Place {
	if folder = strings.Trim(folder, "/"); folder != "" {
		folder += "/"
	}
	return &Place{outer: outer, key: key, prefix: folder}
}

// Of is the inside of a pack that a place is, nil for others.
func Of(p place.Place) *Place { return place.Within[*Place](p) }

// Outer is the place that the pack lies in, Key its name there, Folder the one in it that this is.
func (p *Place) Outer() (outer place.Place, key, folder string) { return p.outer, p.key, p.prefix }

// Name is the pack's with what tells that its inside is meant.
func (p *Place) Name() string {
	name := p.outer.Name() + "/" + p.key + Inside
	if p.prefix != "" {
		name += "/" + strings.TrimSuffix(p.prefix, "/")
	}
	return name
}

// Pack is the pack, opened when it is first asked for.
func (p *Place) Pack(ctx context.Context) (*Pack, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.opened != nil {
		return p.opened, nil
	}
	listed := p.listed
	p.listed = nil
	x, err := openListed(ctx, p.outer, p.key, listed)
	if file := p.keeping.index(p.key); errors.Is(err, ErrNoIndex) && file != "" {
		x, err = Scan(ctx, p.outer, p.key, file, Options{Digest: object.SHA256, Dir: p.keeping.Dir})
	}
	if err != nil {
		return nil, err
	}
	p.opened = x
	return x, nil
}

// Keep has an archive that has no index be read once, and its index be kept.
func (p *Place) Keep(where Keeping) { p.keeping = where }

// Renew has the pack be opened anew when it is next asked for: it was written since.
func (p *Place) Renew() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.opened, p.listed = nil, nil
}

// Abilities are those of an archive.
func (p *Place) Abilities() place.Abilities {
	return place.Abilities{Protocol: "pack", StoredSums: object.CRC64NVME, KeepsTimes: true, KeepsModes: true,
		KeepsLinks: true,
		TimeStep:   time.Nanosecond, Conditions: true, MakesRoot: true, Tree: true, MaxKey: maxName}
}

// CheckName tells which names a pack cannot hold.
func (p *Place) CheckName(key string) error {
	if err := CheckName(p.prefix + key); err != nil {
		return place.NewError(p.Name(), "write", key, place.BadName, err)
	}
	return nil
}

// entry is a member as it is called here.
func (p *Place) entry(m *Member) object.Entry {
	e := m.Entry()
	e.Latest = true
	e.Key = strings.TrimPrefix(m.Name, p.prefix)
	if p.of != "" {
		e.ETag = p.of + Inside + e.Mark()
	}
	return e
}

// List lists members; empty folders are not told, as no object is one.
func (p *Place) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return p.list(ctx, prefix, opts, false)
}

// list lists members, in all their states or as they are now.
func (p *Place) list(ctx context.Context, prefix string, opts place.ListOptions,
	states bool) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		x, err := p.Pack(ctx)
		if err != nil {
			yield(object.Entry{}, p.outerWrong("list", "", err))
			return
		}
		full, after := p.prefix+prefix, ""
		if opts.After != "" {
			after = p.prefix + opts.After
		}
		folder := ""
		if i := strings.LastIndexByte(full, '/'); i >= 0 {
			folder = full[:i]
		}
		wanted := func(dir string) bool { // something in it may be asked for
			below := dir + "/"
			return (strings.HasPrefix(below, full) || strings.HasPrefix(full, below)) &&
				(below > after || strings.HasPrefix(after, below))
		}
		last, over := "", false
		give := func(e object.Entry, err error) bool {
			over = over || !yield(e, err) || err != nil
			return !over
		}
		x.walk(ctx, folder, walking{opts.Shallow, states, wanted}, func(m Member, err error) bool {
			switch {
			case err != nil:
				return give(object.Entry{}, err)
			case !strings.HasPrefix(m.Name, full) || m.Name <= after:
				return true
			case m.Kind == Folder && opts.Shallow:
				return give(object.Entry{Key: strings.TrimPrefix(m.Name, p.prefix), Kind: object.Prefix}, nil)
			case m.Kind == Folder:
				return true
			case states:
				latest := m.Name != last
				last = m.Name
				return give(p.state(&m, latest), nil)
			}
			return give(p.entry(&m), nil)
		})
		if x.damage != "" && !over { // what it shows is there; what it does not may have been
			yield(object.Entry{}, p.unread("list", "", x))
		}
	}
}

// unread tells that the archive is damaged, so that nobody knows what else was in it.
func (p *Place) unread(op, key string, x *Pack) error {
	return place.NewError(p.Name(), op, key, place.Other, fmt.Errorf("the archive is damaged, and what lies "+
		"behind the damaged place cannot be read (%s); have it made anew, or take out what is left", x.damage))
}

// broken tells that the archive was opened and is damaged.
func (p *Place) broken() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.opened != nil && p.opened.damage != ""
}

// outerWrong is an error of the pack as one of this place.
func (p *Place) outerWrong(op, key string, err error) error {
	var told *place.Error
	if err == nil {
		return nil
	}
	if !errors.As(err, &told) {
		return place.Wrap(p.Name(), op, key, err)
	}
	if told.Own() {
		return told
	}
	own := *told
	own.Place, own.Op, own.Key = p.Name(), op, key
	return &own
}

// find is a member by its key here.
func (p *Place) find(ctx context.Context, op, key string) (*Pack, Member, error) {
	x, err := p.Pack(ctx)
	if err != nil {
		return nil, Member{}, p.outerWrong(op, key, err)
	}
	m, err := x.Find(ctx, p.prefix+key)
	if err == nil && m.Kind == Folder {
		err = place.NewError(p.Name(), op, key, place.NotFound, nil)
	}
	if x.damage != "" && err != nil && place.KindOf(err) == place.NotFound { // it may be behind the damage
		err = p.unread(op, key, x)
	}
	if err != nil {
		return nil, m, p.outerWrong(op, key, err)
	}
	return x, m, nil
}

// Stat describes a member.
func (p *Place) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	if ref.Version != "" {
		_, m, latest, err := p.version(ctx, "stat", ref.Key, ref.Version)
		if err != nil {
			return object.Entry{}, err
		}
		return p.state(&m, latest), nil
	}
	_, m, err := p.find(ctx, "stat", ref.Key)
	if err != nil {
		return object.Entry{}, err
	}
	e := p.entry(&m)
	if ref.IfMark != "" && e.Mark() != ref.IfMark {
		return e, place.NewError(p.Name(), "stat", ref.Key, place.Changed, nil)
	}
	return e, nil
}

// Read reads a member.
func (p *Place) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	x, m, err := p.find(ctx, "read", key)
	if opts.Version != "" {
		x, m, _, err = p.version(ctx, "read", key, opts.Version)
	}
	if err != nil {
		return nil, object.Entry{}, err
	}
	e := p.entry(&m)
	switch {
	case m.Dropped:
		return nil, e, place.NewError(p.Name(), "read", key, place.NotFound, nil)
	case opts.IfMark != "" && e.Mark() != opts.IfMark:
		return nil, e, place.NewError(p.Name(), "read", key, place.Changed, nil)
	case m.Kind != File && m.Kind != Hardlink:
		return nil, e, place.NewError(p.Name(), "read", key, place.Unsupported, errors.New("it is a link, and no file"))
	}
	r, err := x.Read(ctx, m, opts.Offset, opts.Length)
	return r, e, err
}

// Write refuses: what goes into a pack goes together.
func (p *Place) Write(_ context.Context, key string, _ io.Reader, _ int64,
	_ place.WriteOptions) (object.Entry, error) {
	return object.Entry{}, p.together("write", key)
}

// Remove marks members as gone, all that it is given at once; the pack must still be the one that was
// looked into.
func (p *Place) Remove(ctx context.Context, refs ...object.Ref) []error {
	errs := make([]error, len(refs))
	var names []string
	for i, ref := range refs {
		if ref.Version != "" {
			errs[i] = p.removeVersion(ref)
			continue
		}
		e, err := p.Stat(ctx, ref)
		switch {
		case place.KindOf(err) == place.NotFound && err != nil: // gone already
		case err != nil:
			errs[i] = err
		default:
			names = append(names, p.prefix+e.Key)
		}
	}
	if len(names) == 0 {
		return errs
	}
	_, err := Drop(ctx, p.outer, p.key, names, Options{Dir: p.keeping.Dir})
	p.Renew()
	for i := range errs {
		if errs[i] == nil {
			errs[i] = p.outerWrong("delete", refs[i].Key, err)
		}
	}
	return errs
}

func (p *Place) together(op, key string) error {
	return place.NewError(p.Name(), op, key, place.Unsupported,
		errors.New("a pack is changed as a whole: by a job, or by `lumtra pack`"))
}
