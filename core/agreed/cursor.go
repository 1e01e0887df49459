package agreed

import (
	"errors"

	"lumtra/core/segment"
)

// Cursor is a walk through states, or doubts, in the order of their keys. It is not for
// concurrent use.
type Cursor[T any] struct {
	seg     *segment.Cursor
	decode  func(payload []byte, key string, into *T) error
	key     string
	value   T
	started bool
	decoded bool
	ended   bool
	err     error
	lost    error // what an error means
}

// Next moves on and tells whether there is another.
func (c *Cursor[T]) Next() bool {
	if c.ended || c.err != nil {
		return false
	}
	if c.seg == nil || !c.seg.Next() {
		c.ended = true
		if c.seg != nil {
			c.err = c.seg.Err()
		}
		return false
	}
	c.started, c.decoded, c.key = true, false, string(c.seg.Key())
	return true
}

// Key is the current key.
func (c *Cursor[T]) Key() string { return c.key }

// Value is what is kept of the current key, good until the next Next; nil when it is
// damaged.
func (c *Cursor[T]) Value() *T {
	if !c.decoded {
		if c.err = c.decode(c.seg.Payload(), c.key, &c.value); c.err != nil {
			return nil
		}
		c.decoded = true
	}
	return &c.value
}

// At moves on to the key and gives what is kept of it, nil if there is nothing. Keys must
// be asked for in rising order.
func (c *Cursor[T]) At(key string) *T {
	for !c.ended && c.err == nil && (!c.started || c.key < key) {
		c.Next()
	}
	if c.ended || c.err != nil || c.key != key {
		return nil
	}
	return c.Value()
}

// Err is what ended the walk early: [ErrStatesLost] or [ErrDoubtsLost], with the cause.
func (c *Cursor[T]) Err() error {
	if c.err == nil {
		return nil
	}
	return errors.Join(c.lost, c.err)
}
