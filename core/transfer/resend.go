package transfer

import "sync"

// resend keeps the big objects that have to be sent once more, from their start:
// they were joined, and only then found damaged.
type resend struct {
	mu  sync.Mutex
	due map[int64]damaged
	// marks are of what each has left at the target.
	marks map[int64]string
}

// damaged is a transfer whose object is due, with what it failed with.
type damaged struct {
	t   *transfer
	err error
}

// add has an object sent again, over what it has left.
func (r *resend) add(t *transfer, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.due == nil {
		r.due, r.marks = map[int64]damaged{}, map[int64]string{}
	}
	r.due[t.number] = damaged{t, err}
	r.marks[t.number] = t.left
}

// take gives those that are due, and forgets them.
func (r *resend) take() map[int64]damaged {
	r.mu.Lock()
	defer r.mu.Unlock()
	due := r.due
	if r.due != nil {
		r.due = map[int64]damaged{}
	}
	return due
}

// leftBy is the mark of what an effect has left; "" for nothing.
func (r *resend) leftBy(effect int64) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.marks[effect]
}

// resends passes over the plan again for objects that are due. One that comes out
// damaged each time has failed.
func (r *run) resends(pass func(only func(effect int64) bool) error) error {
	for round := 1; ; round++ {
		again := r.resend.take()
		if len(again) == 0 || r.ended() {
			return nil
		}
		if round >= r.opts.Retry.Tries {
			for _, x := range again {
				x.t.failedFor(x.err)
			}
			return nil
		}
		if err := pass(func(effect int64) bool { _, due := again[effect]; return due }); err != nil {
			return err
		}
	}
}
