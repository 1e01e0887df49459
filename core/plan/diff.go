package plan

import "context"

// Difference is a key whose effect is another in a later plan of the job.
type Difference struct {
	Key string
	// Was and Is are the effects; nil where a plan did not have the key.
	Was, Is *Effect
}

// Diff walks two plans of a job side by side and yields the keys whose kind of
// effect differs, or that only one has, until yield returns false. What is the
// same, or the job leaves out, counts as not being there.
func Diff(ctx context.Context, was, is *Plan, yield func(Difference) bool) error {
	a, b := was.Effects(""), is.Effects("")
	next := func(c *Cursor) *Effect {
		for c.Next() {
			if e := c.Effect(); e.Kind != Same && e.Kind != LeftOut {
				return e
			}
		}
		return nil
	}
	x, y := next(a), next(b)
	for n := 0; x != nil || y != nil; n++ {
		if n&4095 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		useX := x != nil && (y == nil || x.Key <= y.Key)
		useY := y != nil && (x == nil || y.Key <= x.Key)
		var d Difference
		if useX {
			d.Key, d.Was = x.Key, x
		}
		if useY {
			d.Key, d.Is = y.Key, y
		}
		if (!useX || !useY || x.Kind != y.Kind || x.Back != y.Back) && !yield(d) {
			break
		}
		if useX {
			x = next(a)
		}
		if useY {
			y = next(b)
		}
	}
	if a.Err() != nil {
		return a.Err()
	}
	return b.Err()
}
