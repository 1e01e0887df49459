package event_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"go.uber.org/goleak"

	"lumtra/service/event"
	"lumtra/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// Whoever subscribes is told of every event, in its order, and of none before or after.
func TestSubscribe(t *testing.T) {
	now := time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)
	h := &event.Hub{Now: func() time.Time { return now }}
	h.Publish(event.Event{Kind: event.RunBegan, Job: "before"})
	var got []string
	cancel := h.Subscribe(func(e event.Event) {
		got = append(got,
			fmt.Sprint(e.Kind, " ", e.Job, " ", e.At.Equal(now)))
	})
	h.Publish(event.Event{Kind: event.RunBegan, Job: "a"})
	h.Publish(event.Event{Kind: event.RunEnded, Job: "a", At: now.Add(time.Second)})
	cancel()
	cancel()
	h.Publish(event.Event{Kind: event.RunBegan, Job: "after"})
	assert.Equal(t, []string{"run-began a true", "run-ended a false"}, got)
}

// One that listens slowly hears of every change, of those of one thing the newest, and the
// one that publishes never waits for it.
func TestListen(t *testing.T) {
	var h event.Hub
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	events := h.Listen(ctx)
	for n := range 1000 {
		h.Publish(event.Event{Kind: event.RunMoved, Job: "a", Text: fmt.Sprint(n)})
		h.Publish(event.Event{Kind: event.RunMoved, Job: "b", Text: fmt.Sprint(n)})
	}
	h.Publish(event.Event{Kind: event.RunEnded, Job: "a"})
	var got []string
	for e := range events {
		if got = append(got, fmt.Sprint(e.Kind, " ", e.Job, " ", e.Text)); len(got) == 3 {
			cancel()
		}
	}
	assert.Equal(t, []string{"run-moved a 999", "run-moved b 999", "run-ended a "}, got)
}

// Whoever listens and never looks is forgotten when its context ends.
func TestNobodyLooks(t *testing.T) {
	var h event.Hub
	ctx, cancel := context.WithCancel(context.Background())
	h.Listen(ctx)
	cancel()
	testkit.Becomes(t, 0, h.Listeners)
}

// Many may publish and listen at once.
func TestManyAtOnce(t *testing.T) {
	var h event.Hub
	ctx, cancel := context.WithCancel(context.Background())
	var listening, publishing sync.WaitGroup
	for range 4 {
		events := h.Listen(ctx)
		listening.Go(func() {
			last := map[string]bool{}
			for e := range events {
				if last[e.Job] = true; len(last) == 8 {
					return
				}
			}
		})
	}
	for n := range 8 {
		publishing.Go(func() { h.Publish(event.Event{Kind: event.PlanMade, Job: fmt.Sprint(n)}) })
	}
	publishing.Wait()
	listening.Wait()
	cancel()
}
