package sample

import (
	"cmp"
	"context"
	"io"
	"iter"
	"math/rand/v2"
	"path"
	"slices"
	"strings"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
)

// Kind is a kind of file, by the ending of its names.
type Kind struct {
	// Ending is as ".wav", in lower case; "" for names without one, and OtherKinds for all rare ones.
	Ending string
	Files  int64
	Bytes  int64

	picked []object.Entry
	seen   int64 // files that picking looked at
}

// OtherKinds are the endings that are too rare to be told apart.
const OtherKinds = "others"

const (
	mostKinds    = 24 // kinds that are told apart
	pickedOfKind = 48 // files of a kind that are read at most
	trackedKinds = 512
	// DefaultBytes is how much is read, in all.
	DefaultBytes = 48 << 20
	pieceBytes   = pack.FrameSize
)

// picking goes through what there is, and picks some of each kind with equal chance.
type picking struct {
	kinds map[string]*Kind
	rng   *rand.Rand
	files int64
	bytes int64
}

func (p *picking) add(e object.Entry) {
	p.files++
	p.bytes += e.Size
	ending := strings.ToLower(path.Ext(object.Base(e.Key)))
	if len(ending) > 12 {
		ending = ""
	}
	k := p.kinds[ending]
	if k == nil {
		if len(p.kinds) >= trackedKinds {
			ending = OtherKinds
		}
		if k = p.kinds[ending]; k == nil {
			k = &Kind{Ending: ending}
			p.kinds[ending] = k
		}
	}
	k.Files++
	k.Bytes += e.Size
	if e.Size == 0 {
		return
	}
	k.seen++
	if len(k.picked) < pickedOfKind {
		k.picked = append(k.picked, e)
	} else if at := p.rng.Int64N(k.seen); at < pickedOfKind {
		k.picked[at] = e
	}
}

// settle gives the kinds with most bytes, and the rest as one.
func (p *picking) settle() []*Kind {
	var all []*Kind
	for _, k := range p.kinds {
		all = append(all, k)
	}
	slices.SortFunc(all, func(a, b *Kind) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Ending, b.Ending))
	})
	if len(all) <= mostKinds {
		return all
	}
	rest := &Kind{Ending: OtherKinds}
	for _, k := range all[mostKinds-1:] {
		rest.Files, rest.Bytes = rest.Files+k.Files, rest.Bytes+k.Bytes
		if n := pickedOfKind - len(rest.picked); n > 0 {
			rest.picked = append(rest.picked, k.picked[:min(n, len(k.picked))]...)
		}
	}
	return append(all[:mostKinds-1], rest)
}

// piece is content that was read, of one kind.
type piece struct {
	kind *Kind
	data []byte
}

// pick lists a place and reads a part of what is there, at most about so many bytes: of each kind by its
// share, in pieces that are mixed.
func pick(ctx context.Context, from place.Place, entries iter.Seq2[object.Entry, error],
	most int64) (kinds []*Kind, pieces []piece, files, bytes int64, err error) {
	p := &picking{kinds: map[string]*Kind{}, rng: rand.New(rand.NewPCG(7, 11))}
	for e, err := range entries {
		if err != nil {
			return nil, nil, 0, 0, err
		}
		if e.Kind == object.Object {
			p.add(e)
		}
	}
	kinds = p.settle()
	for _, k := range kinds {
		left := max(most*k.Bytes/max(p.bytes, 1), pieceBytes/4)
		each := max(left/int64(max(len(k.picked), 1)), 16<<10)
		var data []byte
		for _, e := range k.picked {
			if left <= 0 {
				break
			}
			n := min(each, e.Size, left, pieceBytes)
			offset := int64(0)
			if e.Size > n { // not always the head, which may be unlike the rest
				offset = p.rng.Int64N(e.Size - n + 1)
			}
			if data, err = read(ctx, from, &e, offset, n, data); err != nil {
				return nil, nil, 0, 0, err
			}
			left -= n
			for len(data) >= pieceBytes {
				pieces = append(pieces, piece{k, data[:pieceBytes:pieceBytes]})
				data = append([]byte(nil), data[pieceBytes:]...)
			}
		}
		if len(data) > 0 {
			pieces = append(pieces, piece{k, data})
		}
		k.picked = nil
	}
	p.rng.Shuffle(len(pieces), func(i, j int) { pieces[i], pieces[j] = pieces[j], pieces[i] })
	return kinds, pieces, p.files, p.bytes, nil
}

// read reads a part of an object behind what there is; one that is gone, or cold, is passed over.
func read(ctx context.Context, from place.Place, e *object.Entry, offset, n int64, data []byte) ([]byte, error) {
	r, _, err := from.Read(ctx, e.Key, place.ReadOptions{Version: e.Version, Offset: offset, Length: n})
	switch place.KindOf(err) {
	case place.NotFound, place.Archived, place.Changed, place.Denied:
		if err != nil {
			return data, nil
		}
	}
	if err != nil {
		return data, err
	}
	defer r.Close()
	at := len(data)
	data = append(data, make([]byte, n)...)
	got, err := io.ReadFull(r, data[at:])
	if err == io.ErrUnexpectedEOF || err == io.EOF || place.KindOf(err) == place.Changed {
		err = nil
	}
	return data[:at+got], err
}
