package transfer

import (
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
	sent   int64
	last   time.Time // when the last read, or opening, was over
	ended  bool
}

// open opens the source's content for one attempt.
func (t *transfer) open(f *flight, opts place.ReadOptions) (*body, object.Entry, error) {
	began := time.Now()
	r, facts, err := t.from.Read(t.ctx, t.effect.Sent().Key, opts)
	b := &body{t: t, f: f, r: r, last: time.Now()}
	t.meter.spent(Reading, b.last.Sub(began))
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
	m, began := b.t.meter, time.Now()
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

// pace waits until so many bytes may move.
func (b *body) pace(n int) error {
	for _, pacer := range b.t.run.opts.Pacers {
		waited, err := pacer.Take(b.t.ctx, n)
		if waited > 0 {
			b.t.limited.Store(true)
			b.t.meter.spent(Limited, waited)
			b.last = time.Now()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (b *body) count(n int64) {
	b.sent += n
	b.f.sent.Add(n)
	b.t.meter.bytes.Add(n)
}

// Sum is the CRC-64/NVME of what was read so far: see [place.Summed].
func (b *body) Sum() object.Sum {
	if b.summed != nil {
		return b.summed.Sum()
	}
	return object.SumOf(object.CRC64NVME, b.sum)
}

// close ends the attempt: one that failed takes its count back.
func (b *body) close(err error) error {
	b.t.meter.spent(Answering, time.Since(b.last))
	b.r.Close()
	if err != nil {
		b.count(-b.sent)
	}
	return err
}
