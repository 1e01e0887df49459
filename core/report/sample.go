package report

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/dustin/go-humanize"
	"gonum.org/v1/plot/vg"

	"lumtra/core/object"
	"lumtra/core/sample"
)

// Sample writes what a sampling of compressors found out: a row for each as CSV, all of it as one JSON
// document, or a drawing. title says of what.
func Sample(w io.Writer, title string, s *sample.Sampling, f Format) error {
	switch f {
	case CSV:
		return sampleCSV(w, s)
	case JSONLines:
		return json.NewEncoder(w).Encode(s)
	case SVG, PDF:
		return drawSample(w, title, s, f)
	}
	return fmt.Errorf("no form called %q; there are %v", f, Formats)
}

func sampleCSV(w io.Writer, s *sample.Sampling) error {
	out := csv.NewWriter(w)
	out.Write([]string{"method", "form", "ratio", "bytes", "pack_one", "pack_all", "read_one", "read_all", "seconds",
		"requests", "once", "monthly", "best"})
	rate := func(x float64) string { return strconv.FormatFloat(x, 'f', 0, 64) }
	money := func(x float64) string { return strconv.FormatFloat(x, 'f', 6, 64) }
	for i, t := range s.Trials {
		out.Write([]string{t.Name, string(t.Form), strconv.FormatFloat(t.Ratio, 'f', 4, 64),
			strconv.FormatInt(t.Size, 10), rate(t.In), rate(t.InAll), rate(t.Out), rate(t.OutAll),
			strconv.FormatFloat(t.Time.Seconds(), 'f', 3, 64), strconv.FormatInt(t.Bill.Requests, 10),
			money(t.Bill.Once), money(t.Bill.Monthly), strconv.FormatBool(i == s.Best)})
	}
	out.Flush()
	return out.Error()
}

// drawSample draws a row for each way to compress: what is left of the content, how fast it is packed, and
// what all of it takes; below, what each makes of each kind of file.
func drawSample(w io.Writer, title string, s *sample.Sampling, f Format) error {
	const width, top, step = 842, 128, 22
	kinds := s.Kinds[:min(len(s.Kinds), 12)]
	grid := vg.Length(top + step*len(s.Trials) + 56)
	height := grid + vg.Length(16*len(kinds)) + 70
	c := newSheet(f, width, height)
	c.box(0, 0, width, height, rgb(0xfbf9f4))
	c.say(40, 40, 15, "Packed: "+object.Display(title))
	facts := fmt.Sprintf("%s files, %s; tried on %s of them with %s", humanize.Comma(s.Files), size(s.Bytes),
		size(s.Read),
		object.Count(int64(s.Processors), "processor"))
	if s.Line > 0 {
		facts += fmt.Sprintf("; sent over a line of %s/s", humanize.Bytes(uint64(s.Line)))
	}
	c.say(40, 58, 8.5, facts)
	single := fmt.Sprintf("As they are: at least %s requests that write", humanize.Comma(s.Single.Requests))
	if s.Rates != nil {
		single += ", " + s.Money(s.Single)
		if s.Rates.Example {
			single += ", by rates that are only examples"
		}
	}
	c.say(40, 72, 8.5, single)
	if best := s.Recommended(); best != nil {
		c.say(40, 88, 9, best.Name+": "+s.Why+".")
	}
	c.say(110, top-14, 8, "what is left")
	c.say(330, top-14, 8, "packed a second, on all and on one processor")
	c.say(560, top-14, 8, "takes")
	c.say(630, top-14, 8, "requests, cost")
	fastest := 1.0
	for _, t := range s.Trials {
		fastest = max(fastest, t.InAll)
	}
	for i, t := range s.Trials {
		y := vg.Length(top + step*i)
		tint, name := rgb(0xb9b4a8), t.Name
		if t.Form != "" {
			tint = rgb(0x2f8f83)
		}
		if i == s.Best {
			tint = rgb(0xb8741a)
			c.box(34, y-3, 3, 16, tint)
		}
		c.say(42, y+9, 9, name)
		c.box(110, y, 120, 12, rgb(0xe8e4da))
		c.box(110, y, 120*vg.Length(min(t.Ratio, 1)), 12, tint)
		c.say(236, y+9, 8, fmt.Sprintf("%.1f %%  %s", 100*t.Ratio, size(t.Size)))
		c.box(330, y, 130*vg.Length(t.InAll/fastest), 12, tint)
		c.box(330+130*vg.Length(min(t.In, t.InAll)/fastest)-0.7, y, 1.4, 12, ink)
		c.say(466, y+9, 8, fmt.Sprintf("%s/s, %s/s", humanize.Bytes(uint64(t.InAll)), humanize.Bytes(uint64(t.In))))
		c.say(560, y+9, 8, took(t.Time))
		bill := humanize.Comma(t.Bill.Requests)
		if s.Rates != nil {
			bill += ", " + s.Money(t.Bill)
		}
		c.say(630, y+9, 8, bill)
	}
	c.say(40, grid-26, 9, "By kind of file: what is left of it")
	for k, t := range s.Trials {
		c.say(190+vg.Length(52*k), grid-10, 7.5, t.Name)
	}
	for i, kind := range kinds {
		y := grid + vg.Length(16*i)
		name := kind.Ending
		if name == "" {
			name = "without ending"
		}
		c.say(40, y+9, 8, object.Display(name))
		c.say(110, y+9, 8, size(kind.Bytes))
		for k, t := range s.Trials {
			ratio, ok := t.OfKind[kind.Ending]
			if !ok {
				continue
			}
			x := 190 + vg.Length(52*k)
			c.box(x, y, 46, 12, rgb(0xe8e4da))
			c.box(x, y, 46*vg.Length(min(ratio, 1)), 12, rgb(0x7fb8ae))
			c.say(x+4, y+9, 7, fmt.Sprintf("%.0f %%", 100*ratio))
		}
	}
	c.say(40, height-16, 7, "Drawn by Lumtra. What packs are not made in is grey, what is recommended is marked.")
	return c.writeTo(w)
}

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// took is a span as finely as it matters.
func took(d time.Duration) string {
	if d < time.Second {
		return d.Round(time.Millisecond).String()
	}
	return d.Round(100 * time.Millisecond).String()
}
