package catalog

import "lumtra/core/object"

// Merge walks two catalogs side by side, in order of keys.
type Merge struct {
	a, b       *Cursor
	hasA, hasB bool
	started    bool
	A, B       *object.Entry // the current pair: nil where a side lacks the key
	useA, useB bool
}

// NewMerge starts a walk over both; either may be nil for an empty side.
func NewMerge(a, b *Cursor) *Merge { return &Merge{a: a, b: b} }

// Next moves to the next key that either side has.
func (m *Merge) Next() bool {
	if !m.started {
		m.started, m.useA, m.useB = true, true, true
	}
	if m.useA {
		m.hasA = m.a != nil && m.a.Next()
	}
	if m.useB {
		m.hasB = m.b != nil && m.b.Next()
	}
	if m.Err() != nil {
		return false // an end that is none must not look like missing keys
	}
	m.useA, m.useB, m.A, m.B = false, false, nil, nil
	switch {
	case m.hasA && m.hasB:
		ka, kb := m.a.entry.Key, m.b.entry.Key
		m.useA, m.useB = ka <= kb, kb <= ka
	default:
		m.useA, m.useB = m.hasA, m.hasB
	}
	if m.useA {
		m.A = &m.a.entry
	}
	if m.useB {
		m.B = &m.b.entry
	}
	return m.useA || m.useB
}

// NextA is, where the current pair lacks side A, the entry of the next key that
// A has; nil where there are no more. NextB is the same for B.
func (m *Merge) NextA() *object.Entry { return pending(m.a, m.hasA && !m.useA) }

// NextB is NextA for side B.
func (m *Merge) NextB() *object.Entry { return pending(m.b, m.hasB && !m.useB) }

func pending(c *Cursor, there bool) *object.Entry {
	if !there {
		return nil
	}
	return &c.entry
}

// Err is what ended the walk early.
func (m *Merge) Err() error {
	for _, c := range []*Cursor{m.a, m.b} {
		if c != nil && c.Err() != nil {
			return c.Err()
		}
	}
	return nil
}
