package notify

import (
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the database refuses is told, and a message is in the outbox for all its receivers or for none.
func TestOutboxRefused(t *testing.T) {
	at := time.Date(2026, 3, 23, 1, 30, 0, 0, time.UTC)
	late := errors.New("later")
	for refused, step := range map[string]func(o *Outbox, waiting []Waiting) error{
		"INSERT ON messages WHEN NEW.receiver = 'office'": func(o *Outbox, _ []Waiting) error {
			return o.Put(t.Context(), &Message{ID: "two", At: at}, map[string]time.Time{"hook": at, "office": at})
		},
		"UPDATE ON messages WHEN NEW.receiver = 'office'": func(o *Outbox, waiting []Waiting) error {
			_, err := o.Tried(t.Context(), waiting, late, at)
			return err
		},
		"DELETE ON messages": func(o *Outbox, waiting []Waiting) error {
			if _, err := o.Tried(t.Context(), waiting[:1], nil, at); err != nil {
				return err
			}
			return o.Prune(t.Context(), at.Add(time.Hour))
		},
		"INSERT ON looked": func(o *Outbox, _ []Waiting) error { _, _, err := o.Looked(t.Context(), at); return err },
		"UPDATE ON looked": func(o *Outbox, _ []Waiting) error {
			if _, _, err := o.Looked(t.Context(), at); err != nil {
				return err
			}
			return o.SetLooked(t.Context(), at)
		},
	} {
		o, err := OpenOutbox(filepath.Join(t.TempDir(), "outbox.db"))
		require.NoError(t, err)
		for _, receiver := range []string{"hook", "office"} { // two, as they are written one after the other
			require.NoError(t, o.Put(t.Context(), &Message{ID: "one", At: at}, map[string]time.Time{receiver: at}))
		}
		waiting, err := o.Due(t.Context(), at)
		require.NoError(t, err)
		require.Len(t, waiting, 2)
		_, err = o.db.Exec("CREATE TRIGGER full BEFORE " + refused +
			" BEGIN SELECT RAISE(ABORT, 'the disk is full'); END")
		require.NoError(t, err)
		assert.ErrorContains(t, step(o, waiting), "the disk is full", refused)
		all, err := o.List(t.Context(), 10)
		require.NoError(t, err)
		require.Len(t, all, 2, refused)
		for _, w := range all {
			assert.True(t, w.ID == "one" && w.Error == "", "%s: %+v", refused, w)
		}
		require.NoError(t, o.Close())
	}
}

// It is known from when on what happens is looked at, and up to when it was.
func TestOutboxLooked(t *testing.T) {
	o, err := OpenOutbox(filepath.Join(t.TempDir(), "outbox.db"))
	require.NoError(t, err)
	defer o.Close()
	at := time.Date(2026, 3, 23, 1, 30, 0, 0, time.UTC)
	for _, upto := range []time.Time{at, at.Add(time.Hour)} {
		first, last, err := o.Looked(t.Context(), at.Add(2*time.Hour).Add(upto.Sub(at)-2*time.Hour))
		require.NoError(t, err)
		assert.True(t, first.Equal(at) && last.Equal(upto), "%v %v", first, last)
		require.NoError(t, o.SetLooked(t.Context(), at.Add(time.Hour)))
	}
}

// What cannot be read is told, and is not taken for an outbox without messages.
func TestOutboxDamaged(t *testing.T) {
	at := time.Date(2026, 3, 23, 1, 30, 0, 0, time.UTC)
	for _, damage := range []string{`UPDATE messages SET body='{'`, `UPDATE messages SET tries='some'`} {
		o, err := OpenOutbox(filepath.Join(t.TempDir(), "outbox.db"))
		require.NoError(t, err)
		require.NoError(t, o.Put(t.Context(), &Message{ID: "one", At: at}, map[string]time.Time{"office": at}))
		_, err = o.db.Exec(damage)
		require.NoError(t, err)
		for range 2 { // damaged, then closed
			_, err = o.Due(t.Context(), at)
			assert.Error(t, err, damage)
			_, err = o.List(t.Context(), 10)
			assert.Error(t, err, damage)
			require.NoError(t, o.Close())
		}
		_, err = o.Next(t.Context())
		assert.Error(t, err)
		_, _, err = o.Looked(t.Context(), at)
		assert.Error(t, err)
		assert.Error(t, o.Put(t.Context(), &Message{ID: "two", At: at}, map[string]time.Time{"office": at}))
		_, err = o.Tried(t.Context(), nil, nil, at)
		assert.Error(t, err)
	}
	_, err := OpenOutbox(t.TempDir())
	assert.ErrorContains(t, err, "the outbox")
}
