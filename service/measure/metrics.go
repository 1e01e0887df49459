package measure

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"lumtra/core/history"
	"lumtra/core/starts"
	"lumtra/service/agenda"
	"lumtra/service/runs"
	"lumtra/service/workspace"
)

// metrics gathers what the metrics are of when they are asked for.
type metrics struct {
	ws   *workspace.Keeper
	runs *runs.Runner
	now  func() time.Time
}

// gatherTime is how long gathering may take.
const gatherTime = 10 * time.Second

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("lumtra_"+name, help, labels, nil)
}

var (
	runsTotal    = desc("runs_total", "Runs that are over, by how they ended.", "job", "end")
	bytesTotal   = desc("sent_bytes_total", "Bytes that runs have sent.", "job")
	objectsTotal = desc("sent_objects_total", "Objects that runs have sent.", "job")
	failedTotal  = desc("failed_objects_total", "Objects that failed in runs.", "job")
	successAge   = desc("last_success_age_seconds",
		"Time since a run of the job, or a start with nothing to do, ended well.",
		"job")
	lag = desc("lag_seconds", "How old what the target holds is: since the last run of the job that ended well began.",
		"job")
	nextStart = desc("next_start_timestamp_seconds", "When the job starts by itself next.", "job")
	running   = desc("running", "Whether a run of the job is under way.", "job")
	waiting   = desc("starts_waiting", "Starts whose plan waits for a person.", "job")
	missed    = desc("starts_missed_total", "Starts whose time passed with nobody to begin them.", "job")
	needs     = desc("needs", "Starts that wait for a person, and files that cannot be used.")
)

// Describe tells all metrics there are.
func (m *metrics) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{runsTotal, bytesTotal, objectsTotal, failedTotal, successAge, lag, nextStart,
		running,
		waiting, missed, needs} {
		ch <- d
	}
}

// Collect gathers them.
func (m *metrics) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), gatherTime)
	defer cancel()
	now := m.now()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	count := func(d *prometheus.Desc, v int64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), labels...)
	}
	sums := map[string]*history.Sums{}
	if db, err := m.ws.History(); err == nil {
		if all, err := db.Sums(ctx); err == nil {
			sums = all
		}
	}
	rows, err := agenda.Kept(ctx, m.ws, now.Add(-90*24*time.Hour))
	if err != nil {
		m.ws.Log.Warn("metrics lack the starts", "error", err)
	}
	held, late, good := map[string]int64{}, map[string]int64{}, map[string]time.Time{}
	began := map[string]time.Time{}
	for i := range rows {
		r := &rows[i]
		switch r.State {
		case starts.Waiting:
			held[r.Job]++
		case starts.Missed:
			late[r.Job]++
		case starts.Done:
			if r.Moved.After(good[r.Job]) {
				good[r.Job] = r.Moved
			}
			if r.Due.After(began[r.Job]) {
				began[r.Job] = r.Due
			}
		}
	}
	need := int64(len(m.ws.Workspace().Mistakes))
	under := m.runs.All()
	for _, j := range m.ws.Workspace().Jobs {
		if s := sums[j.Name]; s != nil {
			for end, n := range s.Runs {
				count(runsTotal, n, j.Name, string(end))
			}
			count(bytesTotal, s.Bytes, j.Name)
			count(objectsTotal, s.Objects, j.Name)
			count(failedTotal, s.Failed, j.Name)
			if s.LastClean.After(good[j.Name]) {
				good[j.Name] = s.LastClean
			}
			if s.CleanBegan.After(began[j.Name]) {
				began[j.Name] = s.CleanBegan
			}
		}
		if at, ok := good[j.Name]; ok {
			gauge(successAge, now.Sub(at).Seconds(), j.Name)
			gauge(lag, now.Sub(began[j.Name]).Seconds(), j.Name)
		}
		if next, some := j.Schedule.Next(now); some {
			gauge(nextStart, float64(next.At.Unix()), j.Name)
		}
		is := 0.0
		if under[j.Name] != nil {
			is = 1
		}
		gauge(running, is, j.Name)
		gauge(waiting, float64(held[j.Name]), j.Name)
		count(missed, late[j.Name], j.Name)
		need += held[j.Name]
	}
	gauge(needs, float64(need))
}
