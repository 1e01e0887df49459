package blob

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blockblob"
	"golang.org/x/sync/errgroup"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
	"lumtra/core/room"
)

// piece is what is read into memory at a time: its checksums go ahead of it.
const piece = 8 << 20

// CheckName refuses names the service does not take ("Naming and referencing
// containers, blobs, and metadata"): longer than 1,024 characters with the
// prefix, more than 254 path segments, ending in a dot or a slash, or with
// characters that its listings, being XML, cannot write.
func (p *Place) CheckName(key string) error {
	name, why := p.prefix+key, ""
	switch {
	case key == "":
		why = "the key is empty"
	case !utf8.ValidString(name):
		why = "it is not valid UTF-8"
	case utf8.RuneCountInString(name) > maxKey:
		why = fmt.Sprintf("longer than %d characters with its prefix", maxKey)
	case strings.Count(name, "/") >= maxParts:
		why = fmt.Sprintf("more than %d parts", maxParts)
	case strings.HasSuffix(name, ".") || strings.HasSuffix(name, "/"):
		why = `it ends in "." or "/"`
	case slices.ContainsFunc(strings.Split(name, "/"), func(s string) bool { return s == "." || s == ".." }):
		why = `a part is "." or "..", which addresses fold away`
	case strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f }):
		why = "it holds a control character"
	case strings.ContainsAny(name, "\ufffe\uffff"):
		why = "it holds a noncharacter, which no listing can write"
	case strings.Contains(name, `\`):
		why = `it holds a "\", which the service takes for "/"`
	default:
		if why = p.store.known.HeldName(key); why == "" {
			return nil
		}
	}
	return place.NewError(p.name, "check", key, place.BadName, errors.New(why))
}

// Write stores a small blob in one request (Put Blob), a larger one as blocks
// and their list: either way it appears whole or not at all.
func (p *Place) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	no := func(err error) (object.Entry, error) { return object.Entry{}, p.fail(ctx, "write", key, err) }
	if err := p.CheckName(key); err != nil {
		return object.Entry{}, err
	}
	if p.crc64() && opts.Sum.Kind == object.CRC64NVME && size <= maxWhole {
		return p.stream(ctx, key, body, size, opts)
	}
	if size > piece {
		return p.writeBlocks(ctx, key, body, size, opts)
	}
	held := room.New(size)
	defer held.Release()
	sum, err := p.take(key, body, held.Data, opts.Sum)
	if err != nil {
		return no(sourceError(ctx, err))
	}
	return p.guarded(ctx, "write", key, opts, sum, always, func(when *blob.AccessConditions) (object.Entry, error) {
		check, digest := p.check(held.Data, sum)
		out, err := p.client.NewBlockBlobClient(p.prefix+key).Upload(ctx, held.Reader(), &blockblob.UploadOptions{
			Metadata: metadata(opts, sum), HTTPHeaders: headers(opts, digest), Tier: tier(opts), AccessConditions: when,
			TransactionalValidation: check,
		})
		return object.Entry{Key: key, Size: size, ETag: mark(out.ETag), Modified: deref(out.LastModified),
			Version: deref(out.VersionID), Latest: true, Sums: kept(sum, opts)}, err
	})
}

// notDone looks whether a refusal is about one of the asks a request was made with,
// which is learned then: the same, asked again, goes another way.
func (p *Place) notDone(err error, asks ...place.Ask) error {
	var e *place.Error
	if !errors.As(err, &e) || e.Status != http.StatusNotImplemented || len(asks) == 0 {
		return err
	}
	other := *e
	for _, a := range asks {
		if p.store.known.Lacks(a) { // another request has learned it meanwhile
			other.Kind = place.Otherwise
			return &other
		}
	}
	p.store.known.Learn(asks[0], place.Refused)
	other.Kind = place.Otherwise
	return &other
}

// misread looks into a condition that did not hold, as the service says: if what is
// there is what was asked for, the service reads conditions in another way.
func (p *Place) misread(ctx context.Context, err error, g *place.Guard, key string, opts place.WriteOptions) error {
	if !g.Sends || opts.Condition != place.IfStill || place.KindOf(err) != place.Changed {
		return err
	}
	there, statErr := p.Stat(ctx, object.Ref{Key: key})
	if statErr != nil || there.Mark() != opts.Mark {
		return err
	}
	p.store.known.Learn(g.Ask, place.Refused)
	var e *place.Error
	errors.As(err, &e)
	other := *e
	other.Kind = place.Otherwise
	return &other
}

// always is for content that can be sent again.
func always() bool { return true }

// guarded does one write under its condition, in the way that the service is known
// to take it, and sees to it that what was written is there.
func (p *Place) guarded(ctx context.Context, op, key string, opts place.WriteOptions, sum object.Sum,
	again func() bool, write func(*blob.AccessConditions) (object.Entry, error)) (object.Entry, error) {
	absent, still := place.PutIfAbsent, place.PutIfStill
	if op == "finish" {
		absent, still = place.JoinIfAbsent, place.JoinIfStill
	}
	for {
		g, err := place.NewGuard(ctx, p, p.store.known, op, key, opts, absent, still)
		if err != nil {
			return object.Entry{}, err
		}
		var when *blob.AccessConditions
		if g.Sends {
			when = writeConditions(opts)
		}
		e, err := write(when)
		if err = p.fail(ctx, op, key, err); err != nil {
			if err = p.misread(ctx, p.notDone(err, g.Asks()...), g, key,
				opts); place.KindOf(err) == place.Otherwise && again() {
				continue
			}
			return object.Entry{}, err
		}
		if err := g.After(ctx, &e); err != nil {
			return object.Entry{}, err
		}
		if e.ETag == "" {
			there, err := p.Stat(ctx, object.Ref{Key: key})
			if err == nil {
				err = place.Told(p, op, &e, &there)
			}
			if err != nil {
				return object.Entry{}, err
			}
		}
		return e, p.vouch(ctx, op, &e, sum)
	}
}

// stream stores a blob whose checksum is known: it goes through as it comes, in
// one request, and the service verifies it.
func (p *Place) stream(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	passing := &once{Fence: wire.NewFence(body), size: size}
	return p.guarded(ctx, "write", key, opts, opts.Sum, func() bool { return false },
		func(when *blob.AccessConditions) (object.Entry, error) {
			check, digest := p.check(nil, opts.Sum)
			out, err := p.client.NewBlockBlobClient(p.prefix+key).Upload(ctx, passing, &blockblob.UploadOptions{
				Metadata: metadata(opts, opts.Sum), HTTPHeaders: headers(opts, digest), Tier: tier(opts),
				AccessConditions:        when,
				TransactionalValidation: check,
			})
			if failed := passing.Down(); failed != nil {
				err = sourceError(ctx, failed)
			}
			return object.Entry{Key: key, Size: size, ETag: mark(out.ETag), Modified: deref(out.LastModified),
				Version: deref(out.VersionID), Latest: true, Sums: kept(opts.Sum, opts)}, err
		})
}

// once is a body that can be read one time, in the form the client asks for.
type once struct {
	*wire.Fence
	size, at int64
	begun    bool
}

func (o *once) Read(b []byte) (int, error) {
	o.begun = true
	return o.Fence.Read(b)
}

// Seek is how the client learns the size.
func (o *once) Seek(offset int64, whence int) (int64, error) {
	if o.begun {
		return 0, errors.New("the content has begun to pass")
	}
	o.at = offset + map[int]int64{io.SeekCurrent: o.at, io.SeekEnd: o.size}[whence]
	return o.at, nil
}

// Close does nothing: the body is its maker's to close.
func (o *once) Close() error { return nil }

// take reads a piece, which must end there, and sums it, against the sum expected if there is one.
func (p *Place) take(key string, body io.Reader, data []byte, want object.Sum) (object.Sum, error) {
	if err := wire.ReadExactly(body, data); err != nil {
		return object.Sum{}, err
	}
	sum := wire.SumOf(body, data)
	if want.Kind != object.NoSum {
		got := sum
		if want.Kind != sum.Kind {
			h := want.Kind.New()
			h.Write(data)
			got = object.SumOf(want.Kind, h)
		}
		if got != want {
			return sum, place.NewError(p.name, "write", key, place.Corrupt, fmt.Errorf("%s, expected %s", got, want))
		}
	}
	return sum, nil
}

func sourceError(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// writeBlocks writes a large body piece by piece.
func (p *Place) writeBlocks(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	up := place.Upload{Key: key, ID: newID()}
	var parts []place.Part
	whole := object.SumOf(object.CRC64NVME, object.CRC64NVME.New())
	for done := int64(0); done < size; {
		n := min(size-done, piece)
		part, err := p.WritePart(ctx, up, len(parts)+1, done, io.LimitReader(body, n), n, object.Sum{})
		if err != nil {
			return object.Entry{}, err
		}
		parts = append(parts, part)
		whole = object.CombineCRC64(whole, part.Sum, n)
		done += n
	}
	if err := wire.ReadExactly(body, nil); err != nil {
		return object.Entry{}, p.fail(ctx, "write", key, sourceError(ctx, err))
	}
	if opts.Sum.Kind == object.CRC64NVME && opts.Sum != whole {
		return object.Entry{}, place.NewError(p.name, "write", key, place.Corrupt,
			fmt.Errorf("%s, expected %s", whole, opts.Sum))
	}
	return p.Finish(ctx, up, parts, opts)
}

func metadata(opts place.WriteOptions, sum object.Sum) map[string]*string {
	m := map[string]*string{}
	for name, value := range opts.Metadata {
		m[identifier(name)] = &value
	}
	set := func(name, value string) { m[name] = &value }
	if !opts.Original.IsZero() {
		set(metaTime, opts.Original.UTC().Format(time.RFC3339Nano))
	}
	if opts.Mode != 0 {
		set(metaMode, strconv.FormatUint(uint64(opts.Mode&0o777), 8))
	}
	if sum.Kind == object.CRC64NVME {
		set(metaSum, sum.Hex())
	}
	if opts.Digest.Kind != object.NoSum {
		set(metaDigest(opts.Digest.Kind), place.FormatDigest(opts.Digest, sum))
	}
	return m
}

// kept are the sums that metadata has of a blob.
func kept(sum object.Sum, opts place.WriteOptions) []object.Sum {
	if opts.Digest.Kind == object.NoSum {
		return []object.Sum{sum}
	}
	return []object.Sum{sum, opts.Digest}
}

// identifier makes a metadata name one the service takes.
func identifier(name string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' {
			return r
		}
		return '_'
	}, name)
}

func headers(opts place.WriteOptions, md5 []byte) *blob.HTTPHeaders {
	h := &blob.HTTPHeaders{BlobContentMD5: md5}
	if opts.ContentType != "" {
		h.BlobContentType = &opts.ContentType
	}
	if opts.ContentEncoding != "" {
		h.BlobContentEncoding = &opts.ContentEncoding
	}
	return h
}

func tier(opts place.WriteOptions) *blob.AccessTier {
	if opts.Class == "" {
		return nil
	}
	t := blob.AccessTier(opts.Class)
	return &t
}

// removers is how many removals are under way at a time: the service takes one
// blob a request.
const removers = 16

// Remove deletes blobs (Delete Blob), with their snapshots.
func (p *Place) Remove(ctx context.Context, refs ...object.Ref) []error {
	errs := make([]error, len(refs))
	var group errgroup.Group
	group.SetLimit(removers)
	for i, ref := range refs {
		group.Go(func() error {
			errs[i] = p.removeOne(ctx, ref)
			return nil
		})
	}
	group.Wait()
	return errs
}

func (p *Place) removeOne(ctx context.Context, ref object.Ref) error {
	c, err := p.blob(ref)
	if err == nil {
		opts := &blob.DeleteOptions{}
		if ref.IfMark != "" && p.store.known.Of(place.QuotedMatch) == place.Refused {
			_, err = p.Stat(ctx, object.Ref{Key: ref.Key, Version: ref.Version, IfMark: ref.IfMark})
		} else {
			opts.AccessConditions = ifMark(ref.IfMark)
		}
		if all := blob.DeleteSnapshotsOptionTypeInclude; ref.Version == "" {
			opts.DeleteSnapshots = &all
		}
		if err == nil {
			_, err = c.Delete(ctx, opts)
		}
	}
	if err = p.fail(ctx, "delete", ref.Key, err); err != nil && place.KindOf(err) == place.Changed &&
		p.store.known.Of(place.QuotedMatch) != place.Refused {
		switch _, changed := p.Stat(ctx, ref); {
		case changed == nil: // it is what was seen, and the service does not see it
			p.store.known.Learn(place.QuotedMatch, place.Refused)
			return p.removeOne(ctx, ref)
		case place.KindOf(changed) != place.Changed:
			err = changed
		}
	}
	if err = p.fail(ctx, "delete", ref.Key, err); err != nil && place.KindOf(err) == place.NotFound {
		return nil
	}
	return err
}

// CanCopyFrom tells whether from is a place in the same account.
func (p *Place) CanCopyFrom(from place.Place) bool {
	src, ok := from.(*Place)
	return ok && !p.store.known.Lacks(place.CopyWhole) && src.store.cfg.Address == p.store.cfg.Address &&
		src.store.cfg.Account == p.store.cfg.Account
}

// CopyFrom copies inside the account (Copy Blob), and waits for it.
func (p *Place) CopyFrom(ctx context.Context, from place.Place, src object.Ref, key string,
	opts place.WriteOptions) (object.Entry, error) {
	no := func(err error) (object.Entry, error) { return object.Entry{}, p.fail(ctx, "copy", key, err) }
	other, ok := from.(*Place)
	if !ok || !p.CanCopyFrom(from) {
		return no(place.NewError(p.name, "copy", key, place.Unsupported,
			errors.New("the source lies in another service")))
	}
	for {
		e, err := p.copyOnce(ctx, other, src, key, opts)
		if err != nil && place.KindOf(err) == place.Otherwise && p.CanCopyFrom(from) {
			continue // each time something is learned, so that this ends
		}
		return e, err
	}
}

func (p *Place) copyOnce(ctx context.Context, from *Place, src object.Ref, key string,
	opts place.WriteOptions) (object.Entry, error) {
	no := func(err error) (object.Entry, error) { return object.Entry{}, p.fail(ctx, "copy", key, err) }
	source, err := from.blob(src)
	if err != nil {
		return no(err)
	}
	g, err := place.NewGuard(ctx, p, p.store.known, "copy", key, opts, place.CopyIfAbsent, place.CopyIfStill)
	if err != nil {
		return no(err)
	}
	in := &blob.StartCopyFromURLOptions{Tier: tier(opts)}
	if g.Sends {
		in.AccessConditions = writeConditions(opts)
	}
	if c := ifMark(src.IfMark); c != nil {
		in.SourceModifiedAccessConditions = &blob.SourceModifiedAccessConditions{
			SourceIfMatch: c.ModifiedAccessConditions.IfMatch}
	}
	target := p.client.NewBlobClient(p.prefix + key)
	out, err := target.StartCopyFromURL(ctx, source.URL(), in)
	if err != nil {
		return object.Entry{}, p.notDone(p.fail(ctx, "copy", key, err), append(g.Asks(), place.CopyWhole)...)
	}
	status := deref(out.CopyStatus)
	for wait := 50 * time.Millisecond; status == blob.CopyStatusTypePending; wait = min(2*wait, 5*time.Second) {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return no(ctx.Err())
		}
		now, err := target.GetProperties(ctx, nil)
		if err != nil {
			return no(err)
		}
		status = deref(now.CopyStatus)
	}
	if status != blob.CopyStatusTypeSuccess {
		return no(place.NewError(p.name, "copy", key, place.ServerFault, fmt.Errorf("the copy ended as %q", status)))
	}
	return p.Stat(ctx, object.Ref{Key: key})
}
