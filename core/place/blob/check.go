package blob

import (
	"context"
	"crypto/md5"
	"encoding/binary"
	"io"

	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// check is what the service is to hold a piece against as it arrives, and the
// MD5 to keep with a blob, if one was computed. The service's CRC-64 is that of
// NVM Express, which is known already ("x-ms-content-crc64", Put Blob); MD5
// costs ten times as much, but every server verifies it.
func (p *Place) check(data []byte, sum object.Sum) (blob.TransferValidationType, []byte) {
	if p.crc64() {
		return blob.TransferValidationTypeCRC64(binary.BigEndian.Uint64([]byte(sum.Value))), nil
	}
	digest := md5.Sum(data)
	return blob.TransferValidationTypeMD5(digest[:]), digest[:]
}

// crc64 tells that the service is known to hold content against a CRC-64.
func (p *Place) crc64() bool { return p.store.known.Does(place.SumAhead) }

// vouches tells that the service is known to turn damaged content away.
func (p *Place) vouches() bool { return p.crc64() || p.store.known.Does(place.MD5Ahead) }

// Known is what is known about the store.
func (p *Place) Known() *place.Known { return p.store.known }

// vouch reads back what was written to a service that does not vouch for it.
func (p *Place) vouch(ctx context.Context, op string, e *object.Entry, sum object.Sum) error {
	if p.vouches() {
		return nil
	}
	return place.ReadBack(ctx, p, op, e, sum, func() (io.ReadCloser, error) {
		c, err := p.blob(object.Ref{Key: e.Key})
		if err != nil {
			return nil, p.fail(ctx, "read back", e.Key, err)
		}
		out, err := download(ctx, c, nil)
		if err != nil {
			return nil, p.fail(ctx, "read back", e.Key, err)
		}
		if e.ETag != "" && mark(out.ETag) != e.ETag {
			out.Body.Close()
			return nil, place.NewError(p.name, "read back", e.Key, place.Changed, nil)
		}
		body := &wire.Body{Place: p.name, Key: e.Key,
			Fail: func(err error) error { return p.fail(ctx, "read back", e.Key, err) }}
		return body.Check(out.Body, deref(out.ContentLength), object.Sum{}), nil
	})
}

// Promises says which ways are in force.
func (p *Place) Promises() []place.Promise {
	k := p.store.known
	guard := place.Promise{Name: place.NotOverwritten, Way: "the service decides in the moment of writing"}
	for _, a := range []place.Ask{place.PutIfAbsent, place.PutIfStill, place.JoinIfAbsent, place.JoinIfStill} {
		if k.Lacks(a) {
			guard.Way, guard.Weak = "looked at just before and after, since the service does not decide: another "+
				"writer may come between", true
		} else if !k.Does(a) && !guard.Weak {
			guard.Way, guard.Weak = "the service is asked to decide, and looked at just before and after: it was "+
				"not tested whether it does, so another writer may come between", true
		}
	}
	arrived := place.Promise{Name: place.ArrivedWhole,
		Way: "what was written is read back, since the service does not hold it against a checksum"}
	if p.crc64() {
		arrived.Way = "the service holds the content against a CRC-64 sent ahead of it"
	} else if p.vouches() {
		arrived.Way = "the service holds the content against its MD5"
	}
	return []place.Promise{guard, arrived,
		{Name: place.ReadWhole, Way: "held against the checksum kept with the blob, where there is one"},
		{Name: place.RemovedAsSeen, Way: "the service decides, one blob a request"}}
}
