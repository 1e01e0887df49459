package s3

import (
	"lumtra/core/object"
	"lumtra/core/place"
)

// A store that lacks something is asked in another way. Which way is in force for
// each promise follows from what is known of the store; this file is the order of
// them, best first.

// Known is what is known about the store.
func (p *Place) Known() *place.Known { return p.store.known }

// arrival is how a body is vouched for.
type arrival uint8

const (
	// behind: a checksum in a trailer, which the store holds against the content.
	behind arrival = iota
	// ahead: a checksum in a header.
	ahead
	// md5Ahead: the same by Content-MD5.
	md5Ahead
	// signed: the signature covers a hash of the content.
	signed
	// after: the answer's ETag is held against the MD5 of what was sent, or what is
	// there is read back.
	after
)

// memory is the largest body, in bytes, that is read into memory so that a
// checksum can go ahead of it.
const memory = 16 << 20

// holds tells whether a body is to be read into memory before it is sent.
func (p *Place) holds(size int64, summed bool) bool {
	k := p.store.known
	switch {
	case size <= small || p.signs():
		return true
	case size > memory || summed && !k.Lacks(place.SumAhead):
		return false
	case k.Lacks(place.KeepsSum) && !k.Does(place.MD5ETag) && !k.Lacks(place.KeepsMeta):
		return true // its checksum goes beside it, and has to be known beforehand
	}
	return k.Lacks(place.SumBehind) && p.aheadOf() != after
}

// signs tells whether signatures have to cover contents.
func (p *Place) signs() bool {
	return p.store.signBodies || p.store.known.Lacks(place.UnsignedBody)
}

// aheadOf is the best way for a body whose sums can go ahead of it.
func (p *Place) aheadOf() arrival {
	k := p.store.known
	switch {
	case !k.Lacks(place.SumAhead):
		return ahead
	case k.Does(place.MD5Ahead):
		return md5Ahead
	case k.Does(place.SignedBody) && p.store.creds != nil:
		return signed
	case !k.Lacks(place.MD5Ahead):
		return md5Ahead
	}
	return after
}

// wayOf is the way for a body: held in memory, or streamed with a checksum that
// is known or not.
func (p *Place) wayOf(held, summed bool) arrival {
	k := p.store.known
	switch {
	case held:
		return p.aheadOf()
	case summed && !k.Lacks(place.SumAhead):
		return ahead
	case !k.Lacks(place.SumBehind):
		return behind
	}
	return after
}

// asks are what a way rests on.
var wayAsks = map[arrival]place.Ask{behind: place.SumBehind, ahead: place.SumAhead, md5Ahead: place.MD5Ahead,
	signed: place.SignedBody}

// vouches tells that a way is known to turn damaged content away.
func (p *Place) vouches(way arrival) bool {
	a, ok := wayAsks[way]
	return ok && p.store.known.Does(a)
}

// keeps is the checksum the store keeps, as far as that is known.
func (p *Place) keeps() object.SumKind {
	k := p.store.known
	switch {
	case !k.Lacks(place.KeepsSum):
		return sumKind
	case k.Does(place.MD5ETag):
		return object.MD5
	}
	return object.NoSum
}

// keepsVouching tells that the store itself keeps what an object can be verified by, for one that is joined of parts or
// not, as far as nothing else is known.
func (p *Place) keepsVouching(joined bool) bool {
	k := p.store.known
	if joined {
		return !k.Lacks(place.KeepsSum) && p.joinsSummed() || k.Does(place.MD5PartETag)
	}
	return !k.Lacks(place.KeepsSum) || k.Does(place.MD5ETag)
}

// joinsSummed tells whether an upload is begun, and joined, with checksums.
func (p *Place) joinsSummed() bool {
	k := p.store.known
	return !k.Lacks(place.JoinWhole) && !k.Lacks(place.SumAhead)
}

// Promises says which ways are in force.
func (p *Place) Promises() []place.Promise {
	return []place.Promise{p.overwriting(), p.arriving(), p.reading(), p.removing()}
}

func (p *Place) overwriting() place.Promise {
	k, all := p.store.known, place.Promise{Name: place.NotOverwritten}
	asks := []place.Ask{place.PutIfAbsent, place.PutIfStill, place.JoinIfAbsent, place.JoinIfStill}
	works, lacks := 0, 0
	for _, a := range asks {
		if k.Does(a) {
			works++
		} else if k.Lacks(a) {
			lacks++
		}
	}
	switch {
	case works == len(asks):
		all.Way = "the store decides in the moment of writing"
	case lacks == 0:
		all.Way, all.Weak = "the store is asked to decide, and looked at just before and after: it was not tested "+
			"whether it does, so another writer may come between", true
	case k.Does(place.PutIfAbsent) && k.Does(place.PutIfStill):
		all.Way, all.Weak = "the store decides, but not for objects in parts: those are looked at just before and "+
			"after, and another writer may come between", true
	default:
		all.Way, all.Weak = "looked at just before and after, since the store does not decide: another writer may "+
			"come between", true
	}
	return all
}

// arrivalWords say what vouches for a body.
var arrivalWords = map[arrival]string{
	behind:   "the store holds the content against a CRC-64 sent behind it",
	ahead:    "the store holds the content against a CRC-64 sent ahead of it",
	md5Ahead: "the store holds the content against its MD5", signed: "the signature covers the content",
}

func (p *Place) arriving() place.Promise {
	x := place.Promise{Name: place.ArrivedWhole}
	k := p.store.known
	way := p.wayOf(p.holds(small+1, false), false)
	switch {
	case p.vouches(way):
		x.Way = arrivalWords[way]
	case k.Does(place.MD5ETag):
		x.Way = "the ETag of the answer is held against the MD5 of what was sent"
	default:
		x.Way = "what was written is read back, unless the ETag of the answer is its MD5"
	}
	return x
}

func (p *Place) reading() place.Promise {
	x := place.Promise{Name: place.ReadWhole}
	k := p.store.known
	switch {
	case k.Does(place.KeepsSum) && k.Does(place.MD5ETag):
		x.Way = "held against the checksum that the store keeps, or the MD5 in the ETag"
	case k.Does(place.KeepsSum):
		x.Way = "held against the checksum that the store keeps, where it has one"
	case k.Does(place.MD5ETag):
		x.Way = "held against the MD5 in the ETag"
	case k.Lacks(place.KeepsSum) && k.Lacks(place.MD5ETag):
		x.Way, x.Weak = "by its length alone: the store keeps nothing to hold it against", true
	default:
		x.Way, x.Weak = "held against a checksum or an MD5 in the ETag, where there is one: it was not tested "+
			"whether the store keeps them", true
	}
	return x
}

func (p *Place) removing() place.Promise {
	x := place.Promise{Name: place.RemovedAsSeen}
	k := p.store.known
	switch {
	case !k.Lacks(place.RemoveBatch):
		x.Way = "looked at just before, and deleted many at a time"
	case !k.Lacks(place.RemoveBatchMD5):
		x.Way = "looked at just before, and deleted many at a time, with Content-MD5"
	default:
		x.Way = "looked at just before, and deleted one by one"
	}
	return x
}
