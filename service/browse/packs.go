package browse

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"unicode"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"

	"lumtra/core/cut"
	"lumtra/core/nearest"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/report"
	"lumtra/core/sample"
	"lumtra/service/workspace"
)

// inside is the inside of a pack, by its own name or by that of what is in it.
func (s *Browser) inside(a workspace.At) (*pack.Place, error) {
	if in, ok := a.Inside(); ok {
		a = in
	}
	p, err := s.ws.Root(a)
	if err != nil {
		return nil, err
	}
	in := pack.Of(p)
	if in == nil && pack.SetOf(p) != nil {
		return nil, workspace.BadInput(fmt.Errorf("%s are all packs of that folder; name one of them", a))
	}
	if in == nil {
		return nil, workspace.BadInput(fmt.Errorf("%s is no pack: its name ends in .tar, .tar.zst or .tar.gz", a))
	}
	return in, nil
}

// Packs are the packs that a stands for, where that is the inside of several; else a alone.
func (s *Browser) Packs(ctx context.Context, a workspace.At) ([]workspace.At, error) {
	file, ok := strings.CutSuffix(a.Bucket, pack.Inside)
	if !ok || !pack.IsSet(file) {
		return []workspace.At{a}, nil
	}
	p, err := s.ws.Root(a)
	if err != nil {
		return nil, err
	}
	names, err := pack.SetOf(p).All(ctx)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 {
		return nil, place.NewError(p.Name(), "open", "", place.NotFound, nil)
	}
	all := make([]workspace.At, len(names))
	for i, name := range names {
		all[i] = a
		all[i].Bucket = path.Join(path.Dir(file), name) + pack.Inside
	}
	return all, nil
}

// Pack opens a pack. The caller closes it.
func (s *Browser) Pack(ctx context.Context, a workspace.At) (*pack.Pack, error) {
	in, err := s.inside(a)
	if err != nil {
		return nil, err
	}
	return in.Pack(ctx)
}

// RewritePack writes a pack anew, without what was dropped.
func (s *Browser) RewritePack(ctx context.Context, a workspace.At, level int) (pack.Rewritten, error) {
	in, err := s.inside(a)
	if err != nil {
		return pack.Rewritten{}, err
	}
	return in.Rewrite(ctx, pack.Options{Level: level})
}

// Extract takes what is in a pack out into a folder of this machine, which is made if it is not there.
func (s *Browser) Extract(ctx context.Context, a workspace.At, dir string, opts pack.ExtractOptions) (pack.Extracted,
	error) {
	x, err := s.Pack(ctx, a)
	if err != nil {
		return pack.Extracted{}, err
	}
	defer x.Close()
	if a.Key != "" && opts.Folder == "" {
		if _, ok := a.Inside(); !ok {
			opts.Folder = a.Key
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return pack.Extracted{}, workspace.BadInput(err)
	}
	// A small pack may hold very much: what it says of itself is held against what is free first.
	var fs unix.Statfs_t
	if err := unix.Statfs(dir, &fs); err == nil && opts.Folder == "" && opts.Wanted == nil {
		if free := int64(fs.Bavail) * fs.Bsize; x.Totals().Bytes > free {
			return pack.Extracted{}, workspace.BadInput(fmt.Errorf("%s holds %s, and %s are free at %s", a,
				humanize.IBytes(uint64(x.Totals().Bytes)), humanize.IBytes(uint64(free)), object.Display(dir)))
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return pack.Extracted{}, workspace.BadInput(err)
	}
	defer root.Close()
	return pack.Extract(ctx, x, root, opts)
}

// Sample tries compressors on a part of what lies below a. to is the endpoint that all of it would go to,
// by whose rates and parts it is worked out what it costs there; "" for none.
func (s *Browser) Sample(ctx context.Context, a workspace.At, to string, opts sample.Options) (*sample.Sampling,
	error) {
	e := s.ws.Workspace().Endpoints[to]
	if to != "" && e == nil {
		return nil, workspace.BadInput(fmt.Errorf("there is no endpoint %q%s", to, nearest.Hint(to,
			s.ws.EndpointNames())))
	}
	if s.ws.AtTop(a) {
		return nil, workspace.BadInput(errors.New("choose a bucket, or what is in one"))
	}
	p, err := s.ws.Root(a)
	if err != nil {
		return nil, err
	}
	found, err := sample.Run(ctx, p, p.List(ctx, a.Key, place.ListOptions{}), opts)
	if err == nil {
		found.Price(cut.For(0, s.abilities(to), false), s.ws.Workspace().Rates[to])
	}
	return found, err
}

// abilities are those of places at an endpoint; of one that cannot be opened, and of none, what S3 allows.
func (s *Browser) abilities(endpoint string) place.Abilities {
	if end, err := s.ws.Endpoint(endpoint); endpoint != "" && err == nil {
		if p, err := end.Open("any"); err == nil {
			return place.Can(p).Abilities
		}
	}
	return place.Abilities{MinPart: 5 << 20, MaxPart: 5 << 30, MaxParts: 10_000, MaxWhole: 5 << 30, GoodPart: 8 << 20}
}

// ExportSampleTo writes what a sampling found out to a new file in dir and returns its path.
func (s *Browser) ExportSampleTo(dir string, a workspace.At, found *sample.Sampling, f report.Format) (string, error) {
	name := strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '.' {
			return r
		}
		return '_'
	}, strings.Trim(a.String(), "/"))
	path := filepath.Join(dir, fmt.Sprintf("%s-packed-%s.%s", name[:min(len(name), 80)],
		s.ws.Now().Format("20060102-150405"), f))
	return path, workspace.WriteFile(path, func(w io.Writer) error { return report.Sample(w, a.String(), found, f) })
}
