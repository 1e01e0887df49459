package transfer

import (
	"lumtra/core/plan"
)

// task is work that carries out effects of a plan: one, or many at once. It knows how it
// runs: in one piece or in several, on any stream or in a lane. It closes each of its
// effects once, by [transfer.succeeded] or [transfer.failedFor], whatever becomes of it.
type task interface {
	// feed hands the work to the run's streams. It returns when the streams have taken it,
	// or will not any more.
	feed()
}

// sending is the task that carries out an effect which sends an object, or what lies beside
// one.
func (r *run) sending(t *transfer) task {
	size, can := t.effect.Sent().Size, t.side.takes.Can()
	if t.effect.Kind == plan.Meta {
		return attributes{t}
	}
	if t.side.copier != nil && can.MaxCopy > 0 && size > can.MaxCopy {
		// Too large to copy in one request: range by range, or through here.
		if c := can.Ranges; c != nil && c.CanCopyParts() {
			t.side.ranges = c
		}
		t.side.copier = nil
	}
	if r.gzips != nil && !t.effect.Back && r.gzips(t.effect.Key) {
		return gzipped{t}
	}
	large := t.side.copier == nil && size > t.side.cut.Whole || t.side.ranges != nil || r.ledger.Upload(t.number) != nil
	if t.side.writer != nil && large {
		return &big{t: t, partSize: t.side.cut.Of(size)}
	}
	return whole{t}
}

// transfer is an effect to be carried out.
func (r *run) transfer(number int64, e plan.Effect) *transfer {
	t := &transfer{run: r, side: r.sides[0], number: number, effect: e, left: r.resend.leftBy(number)}
	if e.Back {
		t.side = r.sides[1]
	}
	return t
}

// hand waits for a free stream. It returns false when the run is over or about
// to be: then the task is not done.
func (r *run) hand(task func()) bool {
	r.pending.Add(1)
	select {
	case r.streams.tasks <- func() { defer r.pending.Done(); task() }:
		return true
	case <-r.ctx.Done():
	case <-r.control.finished():
	}
	r.pending.Done()
	return false
}
