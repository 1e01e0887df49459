package report

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"image/color"
	"io"
	"strconv"
	"time"

	"github.com/dustin/go-humanize"
	"gonum.org/v1/plot/vg"

	"lumtra/core/history"
	"lumtra/core/object"
)

// Run writes the report of a run to w: its curve as CSV, all of it as one JSON
// document, or what was moved and what failed with the rate over time as a
// drawing.
func Run(w io.Writer, r *history.Run, f Format) error {
	switch f {
	case CSV:
		return runCSV(w, r)
	case JSONLines:
		return json.NewEncoder(w).Encode(r)
	case SVG, PDF:
		return drawRun(w, r, f)
	}
	return fmt.Errorf("no form called %q; there are %v", f, Formats)
}

func runCSV(w io.Writer, r *history.Run) error {
	out := csv.NewWriter(w)
	out.Write([]string{"time", "seconds", "bytes", "objects", "read"})
	for _, s := range r.Samples {
		out.Write([]string{r.Began.Add(s.At).Format(time.RFC3339Nano), strconv.FormatFloat(s.At.Seconds(), 'f', 3, 64),
			strconv.FormatInt(s.Bytes, 10), strconv.FormatInt(s.Objects, 10), strconv.FormatInt(s.Read, 10)})
	}
	out.Flush()
	return out.Error()
}

// drawRun draws the rate over time and lists the problems.
func drawRun(w io.Writer, r *history.Run, f Format) error {
	const width, chart, top = 842, 220, 110
	lines := 0
	for _, p := range r.Problems {
		lines += 2 + min(len(p.Keys), 5)
	}
	height := vg.Length(top + chart + 70 + 13*lines)
	s := newSheet(f, width, height)
	s.box(0, 0, width, height, rgb(0xfbf9f4))
	s.say(40, 40, 15, fmt.Sprintf("Run of %s, plan %d: %s", r.Job, r.Plan, r.End))
	took := r.Ended.Sub(r.Began)
	s.say(40, 58, 8.5, fmt.Sprintf("%s, %s", r.Began.Format("2006-01-02 15:04:05 MST"), took.Round(time.Millisecond)))
	facts := fmt.Sprintf("%s of %s objects, %s of %s", humanize.Comma(r.Before+r.Objects),
		humanize.Comma(r.PlannedObjects), humanize.IBytes(uint64(max(r.Bytes, 0))),
		humanize.IBytes(uint64(r.PlannedBytes)))
	if took > 0 {
		facts += fmt.Sprintf(", %s a second on average",
			humanize.Bytes(uint64(float64(max(r.Bytes, 0))/took.Seconds())))
	}
	for _, x := range []struct {
		n    int64
		what string
	}{{r.Failed, "failed"}, {r.Retries, "tried again"}, {r.SeenTo, "handled at the source"},
		{r.Unverified, "unverified"}, {r.Gaps, "parts not listed"}} {
		if x.n > 0 {
			facts += fmt.Sprintf(", %s %s", humanize.Comma(x.n), x.what)
		}
	}
	s.say(40, 76, 8.5, facts)
	s.rates(r, 40, top, width-80, chart)
	y := vg.Length(top + chart + 44)
	for _, p := range r.Problems {
		s.say(40, y, 9, fmt.Sprintf("%s × %s", humanize.Comma(p.Count), object.Display(p.Cause)))
		s.say(52, y+13, 8.5, p.Advice)
		y += 26
		for _, key := range p.Keys[:min(len(p.Keys), 5)] {
			s.say(52, y, 8, object.DisplayKey(key))
			y += 13
		}
	}
	s.say(40, height-16, 7, "Drawn by Lumtra.")
	return s.writeTo(w)
}

// rates draws the run's curve as columns.
func (s *sheet) rates(r *history.Run, x, y, width, height vg.Length) {
	top, end := 1.0, 1.0
	var rates []float64
	for i := 1; i < len(r.Samples); i++ {
		a, b := r.Samples[i-1], r.Samples[i]
		rates = append(rates, max(float64(b.Bytes-a.Bytes)/max((b.At-a.At).Seconds(), 0.001), 0))
		top, end = max(top, rates[i-1]), b.At.Seconds()
	}
	tide := color.Color(rgb(0x2f8f83))
	for i, rate := range rates {
		from, to := r.Samples[i].At.Seconds()/end, r.Samples[i+1].At.Seconds()/end
		h := height * vg.Length(rate/top)
		s.box(x+width*vg.Length(from), y+height-h, width*vg.Length(to-from), h, tide)
	}
	s.box(x, y+height, width, 0.7, ink)
	s.say(x, y-6, 8, humanize.Bytes(uint64(top))+"/s at the most")
	s.say(x, y+height+14, 8, r.Began.Format("15:04:05"))
	s.say(x+width-40, y+height+14, 8, r.Began.Add(time.Duration(end*1e9)).Format("15:04:05"))
}
