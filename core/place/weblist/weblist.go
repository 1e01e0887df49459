package weblist

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"lumtra/core/inorder"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// Endpoint is a list as it was when it was opened.
type Endpoint struct {
	name  string
	items []item // by key
	http  *http.Client
}

// OpenEndpoint reads the list in the file at path. It does not touch the network.
func OpenEndpoint(name, path string, opts wire.Options) (*Endpoint, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, place.Wrap(name, "open", "", err)
	}
	defer f.Close()
	items, err := parse(f)
	if err != nil {
		return nil, place.NewError(name, "open", "", place.Other, fmt.Errorf("%s: %w", path, err))
	}
	opts.Dial = keptOut(hosts(items, opts.Proxy), opts.Dial)
	transport, err := wire.NewTransport(opts)
	if err != nil {
		return nil, place.NewError(name, "open", "", place.Other, err)
	}
	return &Endpoint{name, items, wire.NewWebClient(transport, redirect)}, nil
}

// Name is the endpoint's label.
func (e *Endpoint) Name() string { return e.name }

// Close drops idle connections.
func (e *Endpoint) Close() error {
	e.http.CloseIdleConnections()
	return nil
}

// Open gives the objects whose keys lie below path.
func (e *Endpoint) Open(path string) (place.Place, error) {
	l := &List{end: e, name: e.name}
	if path = strings.Trim(path, "/"); path != "" {
		l.prefix, l.name = path+"/", e.name+"/"+path
	}
	return l, nil
}

// List is a [place.Place] over the addresses.
type List struct {
	end    *Endpoint
	prefix string
	name   string
}

var _ place.Place = (*List)(nil)

// Name is "endpoint/path".
func (l *List) Name() string { return l.name }

// Abilities tells that there is nothing to write to.
func (l *List) Abilities() place.Abilities {
	return place.Abilities{Protocol: "web addresses", ReadOnly: true, TimeStep: time.Second}
}

// lookers is how many objects are asked about at a time.
const lookers = 16

// List asks about each object (HEAD), many at a time, and yields them in order.
// A shallow listing is for looking around: it takes the list's word and asks
// nobody.
func (l *List) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		all := l.prefix + prefix
		from, _ := slices.BinarySearchFunc(l.end.items, max(all, l.prefix+opts.After),
			func(it item, key string) int { return strings.Compare(it.key, key) })
		wanted := func(yield func(item) bool) {
			for _, it := range l.end.items[from:] {
				if !strings.HasPrefix(it.key, all) {
					return
				}
				if it.key != l.prefix+opts.After && !yield(it) {
					return
				}
			}
		}
		if opts.Shallow {
			l.level(wanted, all, opts.After, yield)
			return
		}
		type found struct {
			entry object.Entry
			err   error
		}
		next, stop := iter.Pull(wanted)
		defer stop()
		err := inorder.Map(ctx, lookers, next, func(ctx context.Context, it item) found {
			e, err := l.head(ctx, it)
			return found{e, err}
		}, func(f found) error {
			if f.err != nil {
				f.entry = object.Entry{}
			}
			if !yield(f.entry, f.err) {
				return errEnough
			}
			return nil
		})
		if err != nil && err != errEnough {
			yield(object.Entry{}, place.Wrap(l.name, "list", prefix, err))
		}
	}
}

// errEnough ends a listing that nobody wants the rest of.
var errEnough = errors.New("enough")

// level yields one level of the list.
func (l *List) level(items iter.Seq[item], all, after string, yield func(object.Entry, error) bool) {
	last := ""
	for it := range items {
		e := object.Entry{Key: it.key[len(l.prefix):], Size: max(it.size, 0), Latest: true}
		if i := strings.IndexByte(it.key[len(all):], '/'); i >= 0 {
			e = object.Entry{Key: it.key[len(l.prefix) : len(all)+i+1], Kind: object.Prefix}
			if e.Key == last || e.Key <= after {
				continue
			}
			last = e.Key
		}
		if it.sum.Kind != object.NoSum && e.Kind == object.Object {
			e.Sums = []object.Sum{it.sum}
		}
		if !yield(e, nil) {
			return
		}
	}
}

func (l *List) find(op, key string) (item, error) {
	i, ok := slices.BinarySearchFunc(l.end.items, l.prefix+key,
		func(it item, key string) int { return strings.Compare(it.key, key) })
	if !ok {
		return item{}, place.NewError(l.name, op, key, place.NotFound, errors.New("the list has no such object"))
	}
	return l.end.items[i], nil
}

// send makes one request. A status of 300 and above is an error.
func (l *List) send(ctx context.Context, op, method string, it item, header http.Header) (*http.Response, error) {
	key := it.key[len(l.prefix):]
	req, err := http.NewRequestWithContext(ctx, method, it.address.String(), nil)
	if err != nil {
		return nil, place.NewError(l.name, op, key, place.Other, errors.New("the address cannot be used"))
	}
	req.Header = header
	resp, err := l.end.http.Do(req)
	if err != nil {
		return nil, l.transportError(ctx, op, key, err)
	}
	if resp.StatusCode >= 300 {
		resp.Body.Close()
		e := place.NewError(l.name, op, key, wire.StatusKind(resp.StatusCode), errors.New("HTTP "+resp.Status))
		e.After = wire.RetryAfter(resp.Header)
		return nil, e
	}
	return resp, nil
}

func (l *List) transportError(ctx context.Context, op, key string, err error) error {
	var urlErr *url.Error
	if errors.As(err, &urlErr) {
		err = urlErr.Err // without the address: it may carry a signature
	}
	if ctx.Err() != nil {
		return place.NewError(l.name, op, key, place.Cancelled, nil)
	}
	return place.NewError(l.name, op, key, place.Unreachable, err)
}

// Stat asks about one object (HEAD).
func (l *List) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	it, err := l.find("stat", ref.Key)
	if err != nil {
		return object.Entry{}, err
	}
	e, err := l.head(ctx, it)
	if err == nil && ref.IfMark != "" && e.Mark() != ref.IfMark {
		err = place.NewError(l.name, "stat", ref.Key, place.Changed, nil)
	}
	return e, err
}

func (l *List) head(ctx context.Context, it item) (object.Entry, error) {
	resp, err := l.send(ctx, "stat", http.MethodHead, it, http.Header{})
	if err != nil {
		return object.Entry{}, err
	}
	resp.Body.Close()
	return l.describe(it, resp.Header, resp.ContentLength, "stat")
}

// describe makes an entry of what server and list say; where they contradict
// each other it is not the object that was meant.
func (l *List) describe(it item, h http.Header, size int64, op string) (object.Entry, error) {
	e := object.Entry{Key: it.key[len(l.prefix):], Size: size, ETag: strings.Trim(h.Get("ETag"), `"`),
		ContentType: h.Get("Content-Type"), Latest: true}
	e.Modified, _ = http.ParseTime(h.Get("Last-Modified"))
	if it.sum.Kind != object.NoSum {
		e.Sums = []object.Sum{it.sum}
	}
	switch {
	case size < 0 && it.size < 0:
		return e, place.NewError(l.name, op, e.Key, place.Unsupported,
			errors.New("neither the server nor the list tells the size"))
	case size < 0:
		e.Size = it.size
	case it.size >= 0 && size != it.size:
		return e, place.NewError(l.name, op, e.Key, place.Changed, fmt.Errorf("it has %d bytes, the list says %d",
			size, it.size))
	}
	return e, nil
}

// Read opens an object or a range of it (GET). A whole object is held against
// the list's checksum as it passes.
func (l *List) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	it, err := l.find("read", key)
	if err != nil {
		return nil, object.Entry{}, err
	}
	h := http.Header{}
	ranged := opts.Offset > 0 || opts.Length > 0
	if ranged {
		span := fmt.Sprintf("bytes=%d-", opts.Offset)
		if opts.Length > 0 {
			span += strconv.FormatInt(opts.Offset+opts.Length-1, 10)
		}
		h.Set("Range", span)
	}
	resp, err := l.send(ctx, "read", http.MethodGet, it, h)
	if err != nil {
		return nil, object.Entry{}, err
	}
	size := resp.ContentLength
	if ranged {
		_, total, _ := strings.Cut(resp.Header.Get("Content-Range"), "/")
		if size, err = strconv.ParseInt(total, 10, 64); err != nil || resp.StatusCode != http.StatusPartialContent {
			err = place.NewError(l.name, "read", key, place.Unsupported, errors.New("the server does not serve ranges"))
		}
	}
	var e object.Entry
	if err == nil {
		e, err = l.describe(it, resp.Header, size, "read")
	}
	// Not every server honours If-Match; the ETag it sends says as much.
	if err == nil && opts.IfMark != "" && e.Mark() != opts.IfMark {
		err = place.NewError(l.name, "read", key, place.Changed, nil)
	}
	if err != nil {
		resp.Body.Close()
		return nil, e, err
	}
	var want object.Sum
	if !ranged {
		want = it.sum
	}
	body := &wire.Body{Place: l.name, Key: key,
		Fail: func(err error) error { return l.transportError(ctx, "read", key, err) }}
	return body.Check(resp.Body, resp.ContentLength, want), e, nil
}

func (l *List) readOnly(op, key string) error {
	return place.NewError(l.name, op, key, place.Unsupported, errors.New("a list of web addresses can only be read"))
}

// Write refuses: there is nothing to write to.
func (l *List) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	return object.Entry{}, l.readOnly("write", key)
}

// Remove refuses.
func (l *List) Remove(ctx context.Context, refs ...object.Ref) []error {
	errs := make([]error, len(refs))
	for i, ref := range refs {
		errs[i] = l.readOnly("delete", ref.Key)
	}
	return errs
}
