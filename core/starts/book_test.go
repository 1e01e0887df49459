package starts

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is open and what has ended.
func TestStates(t *testing.T) {
	for s, open := range map[State]bool{Queued: true, AtWork: true, Waiting: true, Done: false, Failed: false,
		Skipped: false, Missed: false, Stopped: false} {
		assert.Equal(t, open, s.Open(), s)
	}
}

// A start is in the book once, moves only from the state it is in, and brings its followers in with
// the same stroke.
func TestBook(t *testing.T) {
	path := filepath.Join(t.TempDir(), "starts.db")
	b, err := Open(path)
	require.NoError(t, err)
	ctx := t.Context()
	at := time.Date(2026, 3, 23, 1, 30, 0, 0, time.UTC)
	row := Row{Job: "masters", Slot: at, Cause: ByTime, State: Queued, Due: at, Moved: at}
	looked := map[string]Looked{"masters": {Rule: "daily", Upto: at}}
	for i, want := range []int{1, 0} {
		taken, err := b.Look(ctx, looked, []Row{row})
		require.NoError(t, err)
		assert.Len(t, taken, want, "%d", i)
	}
	upto, known, err := b.Upto(ctx, "masters", "daily")
	require.NoError(t, err)
	assert.True(t, known && upto.Equal(at))
	_, known, err = b.Upto(ctx, "masters", "hourly")
	require.NoError(t, err)
	assert.False(t, known, "by another rule")
	_, err = b.Look(ctx, map[string]Looked{"masters": {Rule: "daily", Upto: at.Add(-time.Hour)}}, nil)
	require.NoError(t, err)
	upto, _, _ = b.Upto(ctx, "masters", "daily")
	assert.True(t, upto.Equal(at), "it never goes back")
	all, err := b.Uptos(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 1)
	assert.True(t, all["masters"].Rule == "daily" && all["masters"].Upto.Equal(at))

	row.State, row.Plan, row.Until = AtWork, 3, at.Add(time.Hour)
	follower := Row{Job: "hill", Slot: at, Cause: ByAfter, State: Queued, Due: at, Moved: at}
	moved, taken, err := b.Move(ctx, Waiting, row, follower)
	require.NoError(t, err)
	assert.False(t, moved, "it is not waiting")
	assert.Empty(t, taken)
	_, some, err := b.Row(ctx, "hill", at)
	require.NoError(t, err)
	assert.False(t, some, "and nothing follows it")
	moved, taken, err = b.Move(ctx, Queued, row, follower)
	require.NoError(t, err)
	assert.True(t, moved)
	assert.Len(t, taken, 1)
	require.NoError(t, b.Close())

	b, err = Open(path)
	require.NoError(t, err)
	defer b.Close()
	open, err := b.Open(ctx)
	require.NoError(t, err)
	assert.Len(t, open, 2)
	got, some, err := b.Row(ctx, "masters", at)
	require.NoError(t, err)
	require.True(t, some)
	assert.Equal(t, [3]any{AtWork, 3, true}, [3]any{got.State, got.Plan, got.Until.Equal(at.Add(time.Hour))})
	assert.True(t, got.State.Open())
	require.NoError(t, b.Rename(ctx, "masters", "tapes"))
	_, some, _ = b.Row(ctx, "masters", at)
	assert.False(t, some)
	row.Job, row.State, row.Note = "tapes", Done, "9 objects"
	_, _, err = b.Move(ctx, AtWork, row)
	require.NoError(t, err)
	assert.Equal(t, "done: 9 objects", row.Words())
	require.NoError(t, b.Prune(ctx, at.Add(time.Hour)))
	left, err := b.Since(ctx, "", time.Time{}, 10)
	require.NoError(t, err)
	require.Len(t, left, 1, "what is open stays")
	assert.Equal(t, "hill", left[0].Job)
}

// What cannot be noted in the book is told, and leaves nothing half noted.
func TestBookThatFails(t *testing.T) {
	b, err := Open(filepath.Join(t.TempDir(), "starts.db"))
	require.NoError(t, err)
	defer b.Close()
	ctx, at := t.Context(), time.Date(2026, 3, 23, 1, 30, 0, 0, time.UTC)
	_, err = b.db.ExecContext(ctx, `ALTER TABLE looked RENAME TO gone`)
	require.NoError(t, err)
	found := []Row{{Job: "masters", Slot: at, Cause: ByTime, State: Queued, Due: at, Moved: at}}
	taken, err := b.Look(ctx, map[string]Looked{"masters": {Rule: "daily", Upto: at}}, found)
	assert.Error(t, err)
	assert.Empty(t, taken)
	open, err := b.Open(ctx)
	require.NoError(t, err)
	assert.Empty(t, open)
}

// What the database refuses is told, and nothing of the step is in the book.
func TestBookRefused(t *testing.T) {
	at := time.Date(2026, 3, 23, 1, 30, 0, 0, time.UTC)
	row := func(job string) Row { return Row{Job: job, Slot: at, State: Queued, Due: at, Moved: at} }
	for refused, steps := range map[string][]func(b *Book) error{
		"INSERT ON starts": {
			func(b *Book) error {
				_, err := b.Look(t.Context(), map[string]Looked{"hill": {Rule: "daily", Upto: at}}, []Row{row("hill")})
				return err
			},
			func(b *Book) error {
				to := row("masters")
				to.State = AtWork
				_, _, err := b.Move(t.Context(), Queued, to, row("hill"))
				return err
			},
		},
		"UPDATE ON starts": {
			func(b *Book) error { _, _, err := b.Move(t.Context(), Queued, row("masters")); return err },
			func(b *Book) error { return b.Rename(t.Context(), "masters", "hill") },
		},
		"INSERT ON looked": {func(b *Book) error {
			_, err := b.Look(t.Context(), map[string]Looked{"hill": {Rule: "daily", Upto: at}}, nil)
			return err
		}},
		"UPDATE ON looked": {func(b *Book) error { return b.Rename(t.Context(), "masters", "hill") }},
		"DELETE ON starts": {func(b *Book) error { return b.Prune(t.Context(), at.Add(time.Hour)) }},
	} {
		b, err := Open(filepath.Join(t.TempDir(), "starts.db"))
		require.NoError(t, err)
		ended := row("tiles")
		ended.State = Done
		_, err = b.Look(t.Context(), map[string]Looked{"masters": {Rule: "daily", Upto: at}}, []Row{row("masters"),
			ended})
		require.NoError(t, err)
		_, err = b.db.Exec("CREATE TRIGGER full BEFORE " + refused +
			" BEGIN SELECT RAISE(ABORT, 'the disk is full'); END")
		require.NoError(t, err)
		for i, step := range steps {
			assert.ErrorContains(t, step(b), "the disk is full", "%s, %d", refused, i)
		}
		all, err := b.Since(t.Context(), "", at, 10)
		require.NoError(t, err)
		require.Len(t, all, 2, refused)
		assert.True(t, all[0].Job == "masters" && all[0].State == Queued && all[1].Job == "tiles", refused)
		uptos, err := b.Uptos(t.Context())
		require.NoError(t, err)
		assert.True(t, len(uptos) == 1 && uptos["masters"].Rule == "daily", refused)
		require.NoError(t, b.Close())
	}
}

// What cannot be read is told, and is not taken for a book without starts.
func TestBookDamaged(t *testing.T) {
	at := time.Date(2026, 3, 23, 1, 30, 0, 0, time.UTC)
	b, err := Open(filepath.Join(t.TempDir(), "starts.db"))
	require.NoError(t, err)
	_, err = b.Look(t.Context(), map[string]Looked{"masters": {Rule: "daily", Upto: at}}, []Row{{Job: "masters",
		Slot:  at,
		State: Queued, Due: at, Moved: at}})
	require.NoError(t, err)
	_, err = b.db.Exec(`UPDATE starts SET due='soon'; UPDATE looked SET upto='now'`)
	require.NoError(t, err)
	fails := func() {
		_, err = b.Open(t.Context())
		assert.Error(t, err)
		_, err = b.Since(t.Context(), "", at, 10)
		assert.Error(t, err)
		_, _, err = b.Row(t.Context(), "masters", at)
		assert.Error(t, err)
		_, known, err := b.Upto(t.Context(), "masters", "daily")
		assert.True(t, err != nil && !known)
		_, err = b.Uptos(t.Context())
		assert.Error(t, err)
	}
	fails()
	require.NoError(t, b.Close())
	fails()
	assert.Error(t, b.Rename(t.Context(), "masters", "hill"))
	_, err = Open(t.TempDir())
	assert.ErrorContains(t, err, "the book of starts")
}
