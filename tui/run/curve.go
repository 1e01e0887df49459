package run

import (
	"slices"
	"strings"
	"time"

	"lumtra/core/transfer"
	"lumtra/tui/kit"
)

const axisWidth = 13

// chart draws the rate over the whole run, from its start to where it should end: what is to
// come is hollow.
func (s *Screen) chart(f *facts, width, height int) []string {
	t := s.Theme
	cells := width - axisWidth - 2
	span := s.span(f)
	values := rates(f.samples, cells, span, func(x *transfer.Sample) int64 { return x.Bytes })
	source := rates(f.samples, cells, span, func(x *transfer.Sample) int64 { return x.Read })
	top, limit := 1.0, 0.0
	if len(values) > 0 {
		top = max(slices.Max(values), slices.Max(source), 1)
	}
	legend := ""
	for i, v := range values {
		if source[i] < v*1.1+top/100 { // as good as the same
			source[i] = 0
		} else {
			legend = kit.OverMark + " read at the source: more than arrived"
		}
	}
	hollow := 0.0
	if f.active != nil {
		// A limit far above is no news, and would press the curve flat.
		if limit = f.active.Limit.Rate; limit > top && limit < 2*top {
			top = limit * 1.05
		}
		hollow = f.active.Lately()
	}
	mark := kit.LimitRow(limit, top, height)
	lines := kit.AreaChart(t, values, source, top, limit, hollow, cells, height)
	for i, l := range lines {
		label := ""
		switch i {
		case 0:
			label = kit.Rate(top, s.Bits)
		case height - 1:
			label = "0"
		}
		if i == mark {
			label = "limit"
			if i == 0 {
				label = kit.Rate(limit, s.Bits)
			}
		}
		lines[i] = t.Ash.Render(kit.FitLeft(label, axisWidth-1)) + t.Rule.Render(" ▏") + l
	}
	return append(lines, strings.Repeat(" ", axisWidth+1)+t.Ash.Render(timeAxis(f, span, len(values), cells,
		legend)), "")
}

// span is the time the curve is drawn over: to the end of the run, or to where it should come.
func (s *Screen) span(f *facts) time.Duration {
	n := len(f.samples)
	if n == 0 {
		return 0
	}
	last := f.samples[n-1].At
	if f.active != nil {
		if _, late, ok := f.active.Expect(s.State.At); ok {
			return max(late.Sub(f.began), last)
		}
	}
	return last
}

// timeAxis names the start, now where that is not the end, and the end, and has the legend
// where there is room.
func timeAxis(f *facts, span time.Duration, filled, cells int, legend string) string {
	if span == 0 {
		return "0"
	}
	end, now := kit.Span(span), ""
	if f.active != nil && filled < cells {
		now, end = kit.Span(f.samples[len(f.samples)-1].At), "about "+end
	}
	line := "0"
	if now != "" {
		line += kit.FitLeft(now, max(filled-1, len([]rune(now))+1))
	}
	if legend != "" && len(line)+len(legend)+len(end)+6 < cells {
		line += "   " + legend
	}
	return line + kit.FitLeft(end, max(cells-len([]rune(line)), len([]rune(end))+1))
}

// rates turns totals, as of finds them, into one rate for each of n equal stretches of the span,
// up to the last that has begun. Each is over at least the second before it: what was only
// handed to the network's buffers would else look like a burst.
func rates(samples []transfer.Sample, n int, span time.Duration, of func(*transfer.Sample) int64) []float64 {
	if len(samples) < 2 || n < 1 || span <= 0 {
		return nil
	}
	last := samples[len(samples)-1].At
	filled := min(max(int((int64(last)*int64(n)+int64(span)-1)/int64(span)), 1), n)
	values := make([]float64, filled)
	step := span / time.Duration(n)
	const least = time.Second
	for i := range values {
		if last < least { // too short for a curve: what it came to
			values[i] = float64(of(&samples[len(samples)-1])) / max(last, time.Millisecond).Seconds()
			continue
		}
		to := min(span*time.Duration(i+1)/time.Duration(n), last)
		from := max(to-max(step, least), 0)
		values[i] = float64(total(samples, to, of)-total(samples, from, of)) / max(to-from, least).Seconds()
	}
	return values
}

// total is what had been done at a moment, between samples in proportion.
func total(samples []transfer.Sample, at time.Duration, of func(*transfer.Sample) int64) int64 {
	i, found := slices.BinarySearchFunc(samples, at, func(x transfer.Sample, at time.Duration) int {
		return int(x.At - at)
	})
	switch {
	case found || i == 0:
		return of(&samples[min(i, len(samples)-1)])
	case i == len(samples):
		return of(&samples[i-1])
	}
	a, b := &samples[i-1], &samples[i]
	share := float64(at-a.At) / float64(b.At-a.At)
	return of(a) + int64(share*float64(of(b)-of(a)))
}
