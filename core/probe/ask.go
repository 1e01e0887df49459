package probe

import (
	"bytes"
	"context"
	"errors"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Ask asks one question of a test again, by its name: whether a place may be listed, read, written to
// or deleted from. What it writes starts with prefix, and goes again. The error is the store's refusal; one that
// came of no answer says nothing: see [place.Disturbing].
func Ask(ctx context.Context, p place.Place, prefix, step string) error {
	t := &test{ctx: ctx, p: p, r: &Report{}}
	switch step {
	case "list":
		return t.again(func() error { return listed(ctx, p) })
	case "read":
		return t.again(func() error { return firstRead(ctx, p) })
	case "write", "delete":
		return t.writeAndDelete(prefix+".tmp", step)
	}
	return errors.ErrUnsupported
}

// firstRead reads a byte of the first object that a listing has.
func firstRead(ctx context.Context, p place.Place) error {
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		if err != nil {
			return err
		}
		if e.Kind != object.Object || e.Size == 0 {
			continue
		}
		r, _, err := p.Read(ctx, e.Key, place.ReadOptions{Length: 1})
		if err != nil {
			return err
		}
		return r.Close()
	}
	return nil // nothing is there that could not be read
}

func (t *test) writeAndDelete(key, step string) error {
	data := []byte(time.Now().String())
	err := t.again(func() error {
		_, err := t.p.Write(t.ctx, key, bytes.NewReader(data), int64(len(data)),
			place.WriteOptions{Condition: place.Always})
		return err
	})
	ctx, done := t.cleanup()
	defer done()
	gone := t.again(func() error { return t.forget(ctx, key) })
	if step == "write" {
		return err
	}
	return errors.Join(err, gone)
}
