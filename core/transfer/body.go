package transfer

import (
	"errors"
	"hash"
	"io"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// body is the content of a source on its way to a target. It sums up what
// passes, holds it to the pace, and keeps account of where the time goes: what
// lies between two of its reads is the target taking what it was given, and
// what follows the last one is waiting for the target's answer.
type body struct {
	t *transfer
	f *flight
	r io.ReadCloser
	// sum is kept here, unless what is read sums itself.
	sum    hash.Hash
	summed place.Summed
	// digest is computed beside it, if there is to be one; silent has nothing
	// count as sent, since it was before.
	digest hash.Hash
	silent bool
	sent   int64
	last   time.Time // when the last read, or opening, was over
	ended  bool
}

// open opens the source's content for one attempt.
func (t *transfer) open(f *flight, opts place.ReadOptions) (*body, object.Entry, error) {
	began := time.Now()
	r, facts, err := t.side.from.Read(t.run.ctx, t.effect.Sent().Key, opts)
	b := &body{t: t, f: f, r: r, last: time.Now()}
	t.run.meter.spent(Reading, b.last.Sub(began))
	if err != nil {
		return nil, facts, err
	}
	if b.summed = place.SumsItself(r); b.summed == nil { // else it was summed on its way here
		b.sum = object.CRC64NVME.New()
	}
	return b, facts, nil
}

// Read reads from the source.
func (b *body) Read(p []byte) (int, error) {
	m, began := b.t.run.meter, time.Now()
	m.spent(Sending, began.Sub(b.last))
	for _, pacer := range b.t.run.opts.Pacers {
		if most := pacer.Most(); len(p) > most {
			p = p[:most]
		}
	}
	n, err := b.r.Read(p)
	read := time.Now()
	m.spent(Reading, read.Sub(began))
	b.last = read
	if n > 0 {
		if b.sum != nil {
			b.sum.Write(p[:n])
		}
		if b.digest != nil {
			b.digest.Write(p[:n])
		}
		b.last = time.Now()
		m.spent(Hashing, b.last.Sub(read))
		m.read.Add(int64(n))
		b.count(int64(n))
		if err := b.pace(n); err != nil {
			return 0, err
		}
	}
	b.ended = b.ended || err == io.EOF
	return n, err
}

// fill reads all there is, which is as much as data holds.
func (b *body) fill(data []byte) error {
	if _, err := io.ReadFull(b, data); err != nil && err != io.EOF {
		return place.Wrap(b.t.side.from.Name(), "read", b.t.effect.Sent().Key, err)
	}
	var more [1]byte // the source may tell of trouble at its end
	if n, err := io.ReadFull(b, more[:]); err != io.EOF || n > 0 {
		if err == nil {
			err = errors.New("the content is longer than was said")
		}
		return place.Wrap(b.t.side.from.Name(), "read", b.t.effect.Sent().Key, err)
	}
	return nil
}

// pace waits until so many bytes may move.
func (b *body) pace(n int) error {
	for _, pacer := range b.t.run.opts.Pacers {
		waited, err := pacer.Take(b.t.run.ctx, n)
		if waited > 0 {
			b.t.run.limited.Store(true)
			b.t.run.meter.spent(Limited, waited)
			b.last = time.Now()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (b *body) count(n int64) {
	if b.silent {
		return
	}
	b.sent += n
	b.f.sent.Add(n)
	b.t.run.meter.bytes.Add(n)
}

// Sum is the CRC-64/NVME of what was read so far: see [place.Summed].
func (b *body) Sum() object.Sum {
	if b.summed != nil {
		return b.summed.Sum()
	}
	return object.SumOf(object.CRC64NVME, b.sum)
}

// sentFrom counts the time since as sending: what was read was held back until
// then.
func (b *body) sentFrom(began time.Time) {
	b.last = time.Now()
	b.t.run.meter.spent(Sending, b.last.Sub(began))
}

// digested is the digest of what was read so far; zero where there is none.
func (b *body) digested() object.Sum {
	if b.digest == nil {
		return object.Sum{}
	}
	return object.SumOf(b.t.run.opts.Digest, b.digest)
}

// close ends the attempt: one that failed takes its count back.
func (b *body) close(err error) error {
	b.t.run.meter.spent(Answering, time.Since(b.last))
	b.r.Close()
	if err != nil {
		b.count(-b.sent)
	}
	return err
}
