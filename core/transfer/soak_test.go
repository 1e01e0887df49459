package transfer_test

import (
	"context"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/transfer"
	"lumtra/testkit"
)

// pretend is a place that holds nothing, and takes its time for every request.
type pretend struct {
	name    string
	objects int
	wait    time.Duration
	asked   atomic.Int64
}

const note = "one of many"

var pretendTime = time.Unix(1e9, 0)

func (p *pretend) Name() string { return p.name }

func (p *pretend) Abilities() place.Abilities { return place.Abilities{Conditions: true, MaxKey: 1024} }

func (p *pretend) List(context.Context, string, place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for i := range p.objects {
			if !yield(p.entry(fmt.Sprintf("tiles/%07d.png", i)), nil) {
				return
			}
		}
	}
}

func (p *pretend) entry(key string) object.Entry {
	return object.Entry{Key: key, Size: int64(len(note)), ETag: "t", Modified: pretendTime}
}

// request takes its time; one in a hundred fails.
func (p *pretend) request(ctx context.Context, key string) error {
	timer := time.NewTimer(p.wait) // the store's, in a world of its own time
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
		return place.NewError(p.name, "ask", key, place.Cancelled, nil)
	}
	if p.asked.Add(1)%100 == 0 {
		return place.NewError(p.name, "ask", key, place.ServerFault, nil)
	}
	return nil
}

func (p *pretend) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	return p.entry(ref.Key), p.request(ctx, ref.Key)
}

func (p *pretend) Read(_ context.Context, key string, _ place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	return io.NopCloser(strings.NewReader(note)), p.entry(key), nil
}

func (p *pretend) Write(ctx context.Context, key string, body io.Reader, _ int64, _ place.WriteOptions) (object.Entry,
	error) {
	if _, err := io.Copy(io.Discard, body); err != nil {
		return object.Entry{}, err
	}
	return p.entry(key), p.request(ctx, key)
}

func (p *pretend) Remove(context.Context, ...object.Ref) []error { return nil }

// Two hours of a run, on a clock that does not wait: memory, goroutines and open
// files stay what they were.
func TestSoak(t *testing.T) {
	testkit.Heavy(t)
	const hours = 2
	source, target := &pretend{name: "here", objects: 200_000},
		&pretend{name: "there", wait: hours * time.Hour * 16 / 200_000}
	dir := t.TempDir()
	a, err := catalog.Survey(ctx, source, filepath.Join(dir, "a"), catalog.Options{})
	require.NoError(t, err)
	defer a.Close()
	b, err := catalog.Survey(ctx, target, filepath.Join(dir, "b"), catalog.Options{})
	require.NoError(t, err)
	defer b.Close()
	p, err := plan.Build(ctx, filepath.Join(dir, "p"), a, b,
		plan.Options{Rules: rule.Default(), Source: source.Abilities(), Target: target.Abilities()})
	require.NoError(t, err)
	defer p.Close()
	synctest.Test(t, func(t *testing.T) {
		ledger, err := ledger.Open(filepath.Join(dir, "ledger"), "soak", false)
		require.NoError(t, err)
		defer ledger.Close()
		type measure struct {
			heap              uint64
			goroutines, files int
		}
		var all []measure
		meter, ended := &transfer.Meter{}, make(chan struct{})
		go func() {
			for {
				select {
				case <-time.After(10 * time.Minute): // in a world of its own time
				case <-ended:
					return
				}
				runtime.GC()
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				open, _ := os.ReadDir("/proc/self/fd")
				meter.Snapshot()
				all = append(all, measure{m.HeapAlloc, runtime.NumGoroutine(), len(open)})
			}
		}()
		began := time.Now()
		out, err := transfer.Run(t.Context(), p, source, target, ledger, meter, transfer.Options{Streams: 16})
		close(ended)
		synctest.Wait()
		require.NoError(t, err)
		assert.Zero(t, out.Failed)
		assert.EqualValues(t, 200_000, out.Objects)
		assert.Greater(t, time.Since(began), hours*time.Hour)
		require.GreaterOrEqual(t, len(all), 6*hours)
		t.Logf("%+v", all)
		for _, m := range all {
			assert.InDelta(t, all[0].heap, m.heap, 4<<20)
			assert.InDelta(t, all[0].goroutines, m.goroutines, 2)
			assert.InDelta(t, all[0].files, m.files, 2)
		}
	})
}
