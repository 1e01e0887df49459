package runs

import (
	"context"
	"errors"
	"time"

	"lumtra/core/history"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/transfer"
	"lumtra/service/workroom"
)

// carryOut runs the plan and keeps the history's record of it up to date.
func (x *Runner) carryOut(ctx context.Context, r *local, ready *workroom.Ready, db *history.DB) {
	p, j, ledger := ready.Plan, ready.Job, ready.Ledger
	digest, _ := j.DigestKind()
	opts := transfer.Options{Streams: j.Limits.Streams, PartSize: j.Limits.PartBytes, Proof: j.Proof, Digest: digest,
		ReadTwice: j.ReadTwice,
		Verified:  j.Safety.Unverified == rule.FailUnverified, Only: ready.Only, Control: r.control,
		Pacers: r.pacers(), Dir: string(x.ws.Dir)}
	x.ws.Log.Info("run begins", "job", r.job, "plan", p.Info.Number, "objects", r.planned.Count-r.before)
	stopSaving, saved := make(chan struct{}), make(chan struct{})
	go func() { // others that look at the history see how far it is
		defer close(saved)
		tick := time.NewTicker(2 * time.Second)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				now := r.result
				measure(&now, r.meter.Snapshot())
				if err := db.Save(context.WithoutCancel(ctx), &now); err != nil {
					x.ws.Log.Warn("the history could not be written", "error", err)
				}
			case <-stopSaving:
				return
			}
		}
	}()
	out, err := transfer.Run(ctx, p, ready.Source, ready.Target, ledger, r.meter, opts)
	finished, _ := ledger.Finished()
	whole := finished >= r.planned.Count && ledger.Sources() >= p.Info.Afterwards.Count
	close(stopSaving)
	<-saved
	err = errors.Join(err, ledger.Close())
	measure(&r.result, r.meter.Snapshot())
	r.result.Objects, r.result.SeenTo, r.result.Unverified, r.result.Ended = out.Objects, out.SeenTo,
		out.Unverified, r.now()
	r.result.Notes = r.Notes()
	switch {
	case err != nil:
		r.result.End, r.result.Note = history.Broken, err.Error()
	case out.Stopped && !whole: // what was whole when it was stopped has come to its end
		r.result.End = history.Stopped
	case out.Failed > 0 || r.result.Gaps > 0 || !whole || p.Info.Totals[plan.Conflict].Count > 0:
		r.result.End, r.result.Note = history.Failures, workroom.Undecided(&p.Info)
	default:
		r.result.End = history.Clean
	}
	r.err = errors.Join(err, db.Save(context.WithoutCancel(ctx), &r.result))
	if err := x.room.Remember(context.WithoutCancel(ctx), r.job, p.Info.Source.Place,
		p.Info.Target.Place); err != nil { // the next plan tries again
		x.ws.Log.Warn("what both sides agree on could not be kept", "job", r.job, "error", err)
	}
	x.ws.Log.Info("run ended", "job", r.job, "plan", p.Info.Number, "end", r.result.End, "objects", out.Objects,
		"bytes", out.Bytes, "failed", out.Failed, "error", r.err)
}

func measure(r *history.Run, m transfer.Snapshot) {
	r.Unverified = m.Unverified
	r.Objects, r.Bytes, r.Failed, r.Retries = m.Objects, m.Bytes, m.Failed, m.Retries
	r.Problems, r.Samples, r.Course = m.Problems, thin(m.Samples), m.Course
}

// keptSamples is how many points of a run's curve the history keeps.
const keptSamples = 240

// thin keeps every n-th sample, and the last.
func thin(samples []transfer.Sample) []transfer.Sample {
	step := (len(samples) + keptSamples - 1) / keptSamples
	if step <= 1 {
		return samples
	}
	var kept []transfer.Sample
	for i := 0; i < len(samples)-1; i += step {
		kept = append(kept, samples[i])
	}
	return append(kept, samples[len(samples)-1])
}
