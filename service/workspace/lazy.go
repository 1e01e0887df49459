package workspace

import "sync"

// lazy is something that is opened when it is first asked for. Whoever asks meanwhile waits;
// what could not be opened is tried again by who asks next. No lock is held meanwhile.
type lazy[T any] struct {
	mu      sync.Mutex
	value   T
	open    bool
	opening chan struct{} // closed when the opening under way is over; nil for none
}

// get gives what is open, or opens it.
func (l *lazy[T]) get(open func() (T, error)) (T, error) {
	for {
		l.mu.Lock()
		if l.open {
			defer l.mu.Unlock()
			return l.value, nil
		}
		if under := l.opening; under != nil {
			l.mu.Unlock()
			<-under
			continue
		}
		over := make(chan struct{})
		l.opening = over
		l.mu.Unlock()
		value, err := open()
		l.mu.Lock()
		if l.opening = nil; err == nil {
			l.value, l.open = value, true
		}
		l.mu.Unlock()
		close(over)
		return value, err
	}
}

// take gives what is open, once an opening under way is over.
func (l *lazy[T]) take() (value T, open bool) {
	for {
		l.mu.Lock()
		under := l.opening
		value, open = l.value, l.open
		l.mu.Unlock()
		if under == nil {
			return value, open
		}
		<-under
	}
}
