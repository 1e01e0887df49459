package blob

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/streaming"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blockblob"
	"golang.org/x/sync/errgroup"

	"lumtra/core/object"
	"lumtra/core/place"
)

var _ place.Examiner = (*Place)(nil)

// Examine tries all that Lumtra may ask of a service, with small blobs below
// prefix, right requests and wrong ones.
func (p *Place) Examine(ctx context.Context, prefix string) (place.Facts, error) {
	facts, err := place.Examined(ctx, func(name string) (*place.Examination, error) {
		return p.examine(ctx, prefix+name+"/")
	})
	done, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer stop()
	return facts, errors.Join(err, place.LeftBehind(p.ClearAway(done, prefix)))
}

// examine is one pass.
func (p *Place) examine(ctx context.Context, prefix string) (*place.Examination, error) {
	x := &examination{p: p, ctx: ctx, prefix: p.prefix + prefix, Examination: place.NewExamination()}
	err := x.first()
	if err == nil {
		var group errgroup.Group
		group.SetLimit(4)
		for _, try := range []func() error{x.puts, x.joins, x.copies, x.sums, x.tags, x.names} {
			group.Go(try)
		}
		err = group.Wait()
	}
	return x.Examination, err
}

// examination is one under way.
type examination struct {
	*place.Examination
	p      *Place
	ctx    context.Context
	prefix string
}

// try does a request, and again when it met with trouble of no meaning.
func (x *examination) try(op, key string, once func() error) error {
	var err error
	for range 4 {
		err = x.p.fail(x.ctx, op, key, once())
		var e *place.Error
		if !errors.As(err, &e) || !e.CanRetry() || e.Kind == place.Corrupt || e.Status == http.StatusNotImplemented ||
			x.ctx.Err() != nil {
			return err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-x.ctx.Done():
		}
	}
	return err
}

// put writes a small blob and gives its ETag.
func (x *examination) put(key string, data []byte, when *blob.AccessConditions,
	check blob.TransferValidationType) (etag string, err error) {
	err = x.try("write", key, func() error {
		out, err := x.p.client.NewBlockBlobClient(x.prefix+key).Upload(x.ctx,
			streaming.NopCloser(bytes.NewReader(data)),
			&blockblob.UploadOptions{AccessConditions: when, TransactionalValidation: check})
		etag = mark(out.ETag)
		return err
	})
	return etag, err
}

// right writes what has to be taken, and again when it is turned away as damaged: a line may have made
// it so.
func (x *examination) right(key string, data []byte, when *blob.AccessConditions,
	check blob.TransferValidationType) (etag string, err error) {
	err = x.surely(func() error {
		etag, err = x.put(key, data, when, check)
		return err
	})
	return etag, err
}

func (x *examination) surely(once func() error) error {
	var err error
	for range 4 {
		if err = once(); err == nil || place.KindOf(err) != place.Corrupt || x.ctx.Err() != nil {
			return err
		}
	}
	return err
}

func absent() *blob.AccessConditions {
	return writeConditions(place.WriteOptions{Condition: place.IfAbsent})
}

func still(etag string) *blob.AccessConditions { return ifMark(etag) }

// elsewhere is an ETag that nothing has.
const elsewhere = "0x8D0000000000000"

// first writes a blob plainly, and reads a piece of it.
func (x *examination) first() error {
	_, err := x.put("plain", place.Sample, nil, nil)
	if err != nil {
		return err
	}
	var piece []byte
	err = x.try("read", "plain", func() error {
		out, err := download(x.ctx, x.p.client.NewBlobClient(x.prefix+"plain"),
			&blob.DownloadStreamOptions{Range: blob.HTTPRange{Offset: 3, Count: 5}})
		if err != nil {
			return err
		}
		defer out.Body.Close()
		piece, err = io.ReadAll(io.LimitReader(out.Body, 1<<10))
		return err
	})
	if place.Disturbing(err) {
		x.Disturb(place.ReadRange)
	} else { // what comes of another length is no range
		x.Answer(place.ReadRange, place.Done(err == nil && len(piece) == 5))
	}
	return nil
}

// puts writes under conditions that hold and that do not.
func (x *examination) puts() error {
	etag, err := x.put("guarded", place.Sample, nil, nil)
	if err != nil {
		return err
	}
	_, right := x.right("guarded-new", place.Sample, absent(), nil)
	_, wrong := x.put("guarded", place.Another, absent(), nil)
	x.Conclude(place.PutIfAbsent, right, wrong, place.Exists, place.Changed)
	if wrong == nil {
		if etag, err = x.put("guarded", place.Sample, nil, nil); err != nil {
			return err
		}
	}
	_, wrong = x.put("guarded", place.Another, still(elsewhere), nil)
	if wrong == nil {
		x.Answer(place.PutIfStill, place.Ignored)
		return nil
	}
	_, right = x.right("guarded", place.Sample, still(etag), nil)
	x.Conclude(place.PutIfStill, right, wrong, place.Exists, place.Changed)
	return nil
}

// join makes a blob of one block.
func (x *examination) join(key string, when *blob.AccessConditions) (*azcore.ETag, error) {
	c, id := x.p.client.NewBlockBlobClient(x.prefix+key), base64.StdEncoding.EncodeToString([]byte("examined"))
	var tag *azcore.ETag
	err := x.try("finish", key, func() error {
		if _, err := c.StageBlock(x.ctx, id, streaming.NopCloser(bytes.NewReader(place.Sample)), nil); err != nil {
			return err
		}
		out, err := c.CommitBlockList(x.ctx, []string{id}, &blockblob.CommitBlockListOptions{AccessConditions: when})
		tag = out.ETag
		return err
	})
	return tag, err
}

func (x *examination) joins() error {
	tag, err := x.join("joined", nil)
	if err != nil {
		x.Refuse(err, place.InParts, place.JoinIfAbsent, place.JoinIfStill)
		return nil
	}
	x.Answer(place.InParts, place.Works)
	x.Answer(place.JoinETag, place.Done(mark(tag) != ""))
	_, right := x.join("joined-new", absent())
	_, wrong := x.join("joined", absent())
	x.Conclude(place.JoinIfAbsent, right, wrong, place.Exists, place.Changed)
	_, wrong = x.join("joined", still(elsewhere))
	if wrong == nil {
		x.Answer(place.JoinIfStill, place.Ignored)
		return nil
	}
	there, err := x.p.client.NewBlobClient(x.prefix+"joined").GetProperties(x.ctx, nil)
	if err != nil {
		return x.p.fail(x.ctx, "stat", "joined", err)
	}
	_, right = x.join("joined", still(mark(there.ETag)))
	x.Conclude(place.JoinIfStill, right, wrong, place.Exists, place.Changed)
	return nil
}

// sums sends content with right checksums and wrong ones.
func (x *examination) sums() error {
	h := object.CRC64NVME.New()
	h.Write(place.Sample)
	crc := blob.TransferValidationTypeCRC64(binary.BigEndian.Uint64(h.Sum(nil)))
	digest := md5.Sum(place.Sample)
	for a, check := range map[place.Ask]blob.TransferValidationType{place.SumAhead: crc,
		place.MD5Ahead: blob.TransferValidationTypeMD5(digest[:])} {
		_, right := x.right("summed-"+string(a), place.Sample, nil, check)
		_, wrong := x.put("summed-"+string(a), place.Another, nil, check)
		x.Conclude(a, right, wrong)
	}
	return x.metadata()
}

// metadata writes some and reads them back; checksums are kept among them.
func (x *examination) metadata() error {
	key, kept := "metadata", ""
	err := x.try("write", key, func() error {
		c := x.p.client.NewBlockBlobClient(x.prefix + key)
		value := "reed bed, 1 m"
		if _, err := c.Upload(x.ctx, streaming.NopCloser(bytes.NewReader(place.Sample)),
			&blockblob.UploadOptions{Metadata: map[string]*string{"note": &value}}); err != nil {
			return err
		}
		there, err := c.GetProperties(x.ctx, nil)
		for name, v := range there.Metadata {
			if strings.EqualFold(name, "note") && v != nil && *v == value {
				kept = *v
			}
		}
		return err
	})
	if err != nil {
		return err
	}
	is := place.Done(kept != "")
	x.Answer(place.KeepsMeta, is)
	x.Answer(place.KeepsSum, is)
	return x.replaced(key)
}

// replaced writes over a blob with metadata, and looks whether they went.
func (x *examination) replaced(key string) error {
	if _, err := x.right(key, place.Another, nil, nil); err != nil {
		x.Disturb(place.MetaReplaced)
		return nil
	}
	gone := true
	err := x.try("stat", key, func() error {
		there, err := x.p.client.NewBlobClient(x.prefix+key).GetProperties(x.ctx, nil)
		for name := range there.Metadata {
			gone = gone && !strings.EqualFold(name, "note")
		}
		return err
	})
	if err != nil {
		x.Disturb(place.MetaReplaced)
	} else {
		x.Answer(place.MetaReplaced, place.Done(gone))
	}
	return nil
}

// tags sets one and reads it back.
func (x *examination) tags() error {
	if _, err := x.put("tagged", place.Sample, nil, nil); err != nil {
		return err
	}
	below := strings.TrimPrefix(x.prefix, x.p.prefix)
	x.Tagged(x.ctx, x.p, below+"tagged", func(once func() error) error { return x.try("set tags", "tagged", once) })
	return nil
}

// copies copies inside the account, and onto what is there.
func (x *examination) copies() error {
	source := x.p.client.NewBlobClient(x.prefix + "plain").URL()
	act := func(key string, when *blob.AccessConditions) error {
		return x.try("copy", key, func() error {
			_, err := x.p.client.NewBlobClient(x.prefix+key).StartCopyFromURL(x.ctx, source,
				&blob.StartCopyFromURLOptions{AccessConditions: when})
			return err
		})
	}
	if err := act("copied", nil); err != nil {
		x.Refuse(err, place.CopyWhole, place.CopyIfAbsent, place.CopyIfStill)
		return nil
	}
	x.Answer(place.CopyWhole, place.Works)
	x.Conclude(place.CopyIfAbsent, act("copied-new", absent()), act("copied", absent()), place.Exists, place.Changed)
	wrong := act("copied", still(elsewhere))
	if wrong == nil {
		x.Answer(place.CopyIfStill, place.Ignored)
		return nil
	}
	there, err := x.p.client.NewBlobClient(x.prefix+"copied").GetProperties(x.ctx, nil)
	if err != nil {
		return x.p.fail(x.ctx, "stat", "copied", err)
	}
	x.Conclude(place.CopyIfStill, act("copied", still(mark(there.ETag))), wrong, place.Exists, place.Changed)
	return nil
}

// names writes a name of each kind that the API allows.
func (x *examination) names() error {
	below := strings.TrimPrefix(x.prefix, x.p.prefix)
	for c, name := range place.OddNames {
		key := place.FolderFor(c) + name
		if x.p.CheckName(below+key) != nil {
			continue
		}
		if _, err := x.put(key, place.Sample, nil, nil); err != nil {
			if place.Disturbing(err) || place.KindOf(err) == place.Corrupt {
				x.DisturbName(c)
			} else {
				x.Name(c, place.Refused)
			}
			continue
		}
		is, failed := false, error(nil)
		for range 3 { // a line may have changed one look
			for e, err := range x.p.List(x.ctx, below+place.FolderFor(c), place.ListOptions{}) {
				failed, is = err, is || err == nil && e.Key == below+key
			}
		}
		if is || failed == nil {
			x.Name(c, place.Done(is))
		} else {
			x.DisturbName(c)
		}
	}
	return nil
}

// ClearAway removes all that an Examine writes, older states included.
func (p *Place) ClearAway(ctx context.Context, prefix string) error {
	var refs []object.Ref
	for e, err := range p.List(ctx, prefix, place.ListOptions{}) {
		if err != nil {
			return err
		}
		refs = append(refs, object.Ref{Key: e.Key})
	}
	err := errors.Join(p.Remove(ctx, refs...)...)
	for e, bad := range p.Versions(ctx, prefix, false) {
		if bad != nil {
			break // not kept, or not to be listed
		}
		if e.Version != "" && !e.Removed {
			err = errors.Join(err, p.Remove(ctx, object.Ref{Key: e.Key, Version: e.Version})[0])
		}
	}
	return err
}
