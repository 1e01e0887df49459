package notifier

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"lumtra/core/job"
	"lumtra/core/notify"
	"lumtra/core/secret"
	"lumtra/service/event"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// OutboxName is the file of the outbox in the state folder.
const OutboxName = "outbox.db"

// Times of the notifier: how often it looks for what happened whatever it was told, and how long
// what was sent or given up is kept.
const (
	lookEvery = 30 * time.Second
	keptFor   = 60 * 24 * time.Hour
)

// Notifier tells receivers what happened.
type Notifier struct {
	ws   *workspace.Keeper
	room *workroom.Room
	box  *notify.Outbox
	// since is from when on what happened is looked at: a little before it was looked at last.
	since time.Time
	// first is when the workspace was first looked at: a job that never ended well is silent since.
	first time.Time
}

// Open opens the outbox of a workspace.
func Open(ctx context.Context, ws *workspace.Keeper, room *workroom.Room) (*Notifier, error) {
	box, err := notify.OpenOutbox(ws.Dir.Path(OutboxName))
	if err != nil {
		return nil, err
	}
	n := &Notifier{ws: ws, room: room, box: box}
	n.first, n.since, err = box.Looked(ctx, ws.Now())
	return n, errors.Join(err, box.Prune(ctx, ws.Now().Add(-keptFor)))
}

// Close closes the outbox. Run has ended.
func (n *Notifier) Close() error { return n.box.Close() }

// Run tells what happens, until ctx ends. What could not be sent by then waits.
func (n *Notifier) Run(ctx context.Context) error {
	wake := make(chan struct{}, 1)
	heard := n.ws.Events.Listen(ctx)
	n.ws.Life.Go(func(context.Context) {
		for e := range heard {
			switch e.Kind {
			case event.RunEnded, event.StartMoved, event.WorkspaceChanged:
				select {
				case wake <- struct{}{}:
				default:
				}
			}
		}
	})
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-wake:
		case <-timer.C:
		}
		wait, err := n.turn(ctx)
		if err != nil && ctx.Err() == nil {
			n.ws.Log.Error("messages could not be kept", "error", err)
		}
		timer.Reset(wait)
	}
}

// turn puts what happened into the outbox, sends what is due, and says how long nothing will be.
func (n *Notifier) turn(ctx context.Context) (time.Duration, error) {
	err := n.gather(ctx)
	if err == nil {
		err = n.send(ctx)
	}
	wait := lookEvery
	if next, e := n.box.Next(ctx); e == nil && !next.IsZero() {
		wait = min(wait, max(next.Sub(n.ws.Now()), 100*time.Millisecond))
	}
	return wait, err
}

// receivers are those of the workspace, by name.
func (n *Notifier) receivers() map[string]*notify.Settings { return n.ws.Workspace().Service.Notify }

// gather puts what happened since it was looked at last into the outbox.
func (n *Notifier) gather(ctx context.Context) error {
	now := n.ws.Now()
	if len(n.receivers()) == 0 {
		n.since = now
		return n.box.SetLooked(ctx, now)
	}
	all, err := n.happened(ctx, now)
	if err != nil {
		return err
	}
	for i := range all {
		m := &all[i]
		due := map[string]time.Time{}
		for name, s := range n.receivers() {
			if s.Wants(m) && tooLong(s, m) {
				due[name] = s.Due(now, m.Kind)
			}
		}
		if len(due) == 0 {
			continue
		}
		if err := n.box.Put(ctx, m, due); err != nil {
			return err
		}
	}
	n.since = now
	return n.box.SetLooked(ctx, now)
}

// send gives what is due to its receivers: what is due for one at once, as one message.
func (n *Notifier) send(ctx context.Context) error {
	due, err := n.box.Due(ctx, n.ws.Now())
	if err != nil {
		return err
	}
	by := map[string][]notify.Waiting{}
	for _, w := range due {
		by[w.Receiver] = append(by[w.Receiver], w)
	}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(by)) {
		errs = append(errs, n.sendTo(ctx, name, by[name]))
	}
	return errors.Join(errs...)
}

func (n *Notifier) sendTo(ctx context.Context, name string, all []notify.Waiting) error {
	s := n.receivers()[name]
	var failed error
	if s == nil {
		failed = fmt.Errorf("there is no receiver %q any more (%w)", name, notify.ErrPermanent)
	} else {
		failed = Deliver(ctx, n.ws, s, joined(s, all))
	}
	if ctx.Err() != nil {
		return nil // the next one tries
	}
	gaveUp, err := n.box.Tried(context.WithoutCancel(ctx), all, failed, n.ws.Now())
	switch {
	case gaveUp:
		n.ws.Log.Error("messages were given up", "receiver", name, "messages", len(all), "error", failed)
	case failed != nil:
		n.ws.Log.Warn("messages could not be sent yet", "receiver", name, "messages", len(all), "error", failed)
	default:
		n.ws.Log.Info("messages sent", "receiver", name, "messages", len(all))
	}
	return err
}

// joined is one message of all that is due for a receiver.
func joined(s *notify.Settings, all []notify.Waiting) *notify.Message {
	var messages []notify.Message
	for i := range all {
		messages = append(messages, all[i].Message)
	}
	kind, subject := notify.Kind(""), ""
	if s.Digest != "" && messages[0].Kind != notify.Test {
		kind, subject = notify.Digest, messages[0].Title+": what happened, "+fmt.Sprint(len(messages))+" in all"
	}
	m := notify.Joined(messages, kind, subject)
	return &m
}

// Deliver sends a message once, if a person lets its receiver's settings be used.
func Deliver(ctx context.Context, ws *workspace.Keeper, s *notify.Settings, m *notify.Message) error {
	if err := ws.MayNotify(s); err != nil {
		return err
	}
	key := secret.Text{}
	if s.SecretFrom != "" {
		var err error
		if key, err = ws.Secret(s.SecretFrom); err != nil {
			return err
		}
	}
	at := *s
	at.CAFile = ws.Path(s.CAFile)
	return notify.Send(ctx, &at, key, m)
}

// TestMessage is one that tells that messages arrive.
func TestMessage(w *job.Workspace, now time.Time) *notify.Message {
	return &notify.Message{ID: fmt.Sprintf("test-%d", now.UnixMicro()), Kind: notify.Test, At: now, Title: w.Title,
		Subject: w.Title + ": messages arrive", Text: "This is a test of messages from Lumtra. Nothing has happened.",
		Rates: []float64{1e6, 4e6, 9e6, 12e6, 11e6, 12e6, 7e6, 3e6}}
}
