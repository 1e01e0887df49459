package transfer

import (
	"bytes"
	"hash"
	"io"

	"github.com/klauspost/compress/gzip"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
)

// gzipped is the task that sends an object compressed. How large it will be shows only while
// it passes, so it is cut into parts as they fill; one that fits into a single
// part goes whole. Parts of a try that failed are dropped: another try begins
// anew.
type gzipped struct{ t *transfer }

func (g gzipped) feed() { g.t.run.hand(g.do) }

func (g gzipped) do() {
	t := g.t
	if up := t.run.ledger.Upload(t.number); up != nil && t.side.writer != nil { // of a run that was killed
		t.abort(t.side.writer, place.Upload{Key: t.effect.Key, ID: up.ID})
		t.run.ledger.Abort(t.number)
	}
	t.deliver(t.compress)
}

// compress is one attempt.
func (t *transfer) compress(f *flight) (there object.Entry, err error) {
	src := t.effect.Sent()
	first, err := t.firstRead(false)
	if err != nil {
		return there, err
	}
	content, facts, err := t.open(f, place.ReadOptions{Version: src.Version, IfMark: src.Mark()})
	if err != nil {
		return there, err
	}
	t.unverified.Store(facts.Unverified && first.Kind == object.NoSum)
	c := &cutter{t: t, opts: t.options(facts), partSize: int(t.side.cut.Of(src.Size + src.Size/1000 + 1024))}
	c.opts.ContentEncoding = "gzip"
	t.condition(&c.opts)
	if t.run.opts.Digest != object.NoSum { // of what is stored
		c.digest = t.run.opts.Digest.New()
	}
	zip := gzip.NewWriter(c)
	zip.ModTime = src.Modified
	if _, err = io.Copy(zip, content); err == nil {
		err = t.secondRead(content, first)
	}
	if err == nil {
		err = zip.Close()
	}
	if err == nil {
		there, err = c.finish()
		f.digest = c.opts.Digest
	}
	if err = content.close(err); err != nil {
		c.drop()
		err = place.Wrap(t.side.from.Name(), "read", src.Key, err)
	}
	return there, err
}

// cutter is the far end of the compressor: it sends what comes in parts.
type cutter struct {
	t        *transfer
	opts     place.WriteOptions
	partSize int
	room     []byte
	up       place.Upload
	parts    []place.Part
	sum      object.Sum
	digest   hash.Hash // nil for none
	sent     int64
}

// Write takes compressed bytes, and sends a part when one is full.
func (c *cutter) Write(p []byte) (int, error) {
	taken := len(p)
	if c.digest != nil {
		c.digest.Write(p)
	}
	for len(p) > 0 {
		if len(c.room) == c.partSize {
			if err := c.part(); err != nil {
				return 0, err
			}
		}
		n := min(len(p), c.partSize-len(c.room))
		c.room, p = append(c.room, p[:n]...), p[n:]
	}
	return taken, nil
}

func sumOf(b []byte) object.Sum {
	h := object.CRC64NVME.New()
	h.Write(b)
	return object.SumOf(object.CRC64NVME, h)
}

// part sends what is there as the next part.
func (c *cutter) part() (err error) {
	if c.t.side.writer == nil {
		return place.NewError(c.t.side.to.Name(), "write", c.t.effect.Key, place.TooLarge, nil)
	}
	if c.up.ID == "" {
		err = c.t.openUpload(func() (err error) {
			c.opts.PartSize = int64(c.partSize)
			c.up, err = c.t.side.writer.Begin(c.t.run.ctx, c.t.effect.Key, c.opts)
			return err
		})
		if err != nil {
			return err
		}
		if err := c.t.run.ledger.Begin(c.t.number, c.up.ID, int64(c.partSize)); err != nil {
			return err
		}
		c.sum = sumOf(nil)
	}
	sum := sumOf(c.room)
	var part place.Part
	err = c.t.try(func(int) (err error) {
		part, err = c.t.side.writer.WritePart(c.t.run.ctx, c.up, len(c.parts)+1, c.sent, bytes.NewReader(c.room),
			int64(len(c.room)), sum)
		return err
	})
	if err != nil {
		return err
	}
	c.parts, c.sum = append(c.parts, part), object.CombineCRC64(c.sum, sum, int64(len(c.room)))
	c.sent += int64(len(c.room))
	c.room = c.room[:0]
	return nil
}

// finish sends the rest and makes the object. When the answer is that
// something is there, it may be this very object: an answer was lost.
func (c *cutter) finish() (there object.Entry, err error) {
	size := c.sent + int64(len(c.room))
	if c.digest != nil {
		c.opts.Digest = object.SumOf(c.t.run.opts.Digest, c.digest)
	}
	if c.up.ID == "" {
		c.opts.Sum = sumOf(c.room)
		there, err = c.t.side.to.Write(c.t.run.ctx, c.t.effect.Key, bytes.NewReader(c.room), size, c.opts)
	} else {
		if len(c.room) > 0 {
			if err := c.part(); err != nil {
				return there, err
			}
		}
		c.opts.Sum = c.sum
		there, err = c.t.side.writer.Finish(c.t.run.ctx, c.up, c.parts, c.opts)
	}
	if k := place.KindOf(err); err != nil && (k == place.Exists || k == place.Changed || k == place.NotFound) {
		now, statErr := c.t.side.to.Stat(c.t.run.ctx, object.Ref{Key: c.t.effect.Key})
		if statErr == nil && now.Size == size && c.holds(&now) {
			return now, nil
		}
	}
	return there, err
}

// holds tells whether what is there is what was sent: by its checksum, or read.
func (c *cutter) holds(now *object.Entry) bool {
	sum, ok := now.Sum(object.CRC64NVME)
	if !ok {
		var err error
		if sum, err = compare.Sum(c.t.run.ctx, c.t.side.to, now.Key, now.Mark(), object.CRC64NVME); err != nil {
			return false
		}
		now.Sums = append([]object.Sum{sum}, now.Sums...)
	}
	return sum == c.opts.Sum
}

// drop removes the parts of an attempt that failed.
func (c *cutter) drop() {
	if c.up.ID != "" && c.t.abort(c.t.side.writer, c.up) == nil {
		c.t.run.ledger.Abort(c.t.number)
	}
}
