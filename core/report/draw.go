package report

import (
	"context"
	"fmt"
	"image/color"
	"io"
	"slices"

	"github.com/dustin/go-humanize"
	"gonum.org/v1/plot/vg"

	"lumtra/core/object"
	"lumtra/core/plan"
)

// drawnRows is how many folders a drawing shows; the rest are drawn as one.
const drawnRows = 36

// tones are the effects' colours on paper. Every bar says its figures too.
var tones = map[plan.Kind]color.Color{
	plan.Add: rgb(0xb8741a), plan.Change: rgb(0x6246b0), plan.Meta: rgb(0xa595d8), plan.Remove: rgb(0xc2350f),
	plan.Conflict: rgb(0xe0795c), plan.Blocked: rgb(0x7d2310), plan.Same: rgb(0x7fb8ae), plan.Extra: rgb(0xb9b4a8),
	plan.LeftOut: rgb(0xdcd8ce),
}

// tone is the colour of an effect.
func tone(k plan.Kind) color.Color {
	if c, ok := tones[k]; ok {
		return c
	}
	return ink
}

func rgb(x uint32) color.Color {
	return color.RGBA{uint8(x >> 16), uint8(x >> 8), uint8(x), 0xff}
}

var ink = rgb(0x22262e)

// drawPlan draws the outcome: a row a folder, its bar split by effect.
func drawPlan(w io.Writer, p *plan.Plan, f Format) error {
	nodes, err := p.Folder(context.Background(), "")
	if err != nil {
		return err
	}
	slices.SortStableFunc(nodes,
		func(a, b plan.Node) int { return int(min(max(b.Totals.All().Bytes-a.Totals.All().Bytes, -1), 1)) })
	if len(nodes) > drawnRows {
		rest := plan.Node{Name: fmt.Sprintf("and %s more", humanize.Comma(int64(len(nodes)-drawnRows+1)))}
		for i := drawnRows - 1; i < len(nodes); i++ {
			rest.Totals.Merge(&nodes[i].Totals)
		}
		nodes = append(nodes[:drawnRows-1], rest)
	}
	const width, row = 842, 14 // points: A4 across
	height := vg.Length(120 + row*(len(nodes)+4))
	s := newSheet(f, width, height)
	s.box(0, 0, width, height, rgb(0xfbf9f4))
	i := &p.Info
	s.say(40, 40, 15, fmt.Sprintf("Plan %d of %s", i.Number, i.Job))
	s.say(40, 58, 8.5, fmt.Sprintf("%s to %s, made %s", object.Display(i.Source.Place),
		object.Display(i.Target.Place), i.Made.Format("2006-01-02 15:04:05 MST")))
	x := vg.Length(40)
	for _, k := range plan.Kinds { // the legend has the totals
		t := i.Totals[k]
		if t.Count == 0 {
			continue
		}
		label := fmt.Sprintf("%s %s · %s", k, humanize.Comma(t.Count), humanize.IBytes(uint64(t.Bytes)))
		s.box(x, 72, 8, 8, tone(k))
		s.say(x+12, 80, 8.5, label)
		x += 26 + s.width(8.5, label)
	}
	scale := int64(1)
	for _, n := range nodes {
		scale = max(scale, n.Totals.All().Bytes)
	}
	const names, bars = 220, 430
	for n, node := range nodes {
		y := vg.Length(104 + row*n)
		name := object.Display(node.Name)
		if r := []rune(name); len(r) > 36 {
			name = string(r[:17]) + "…" + string(r[len(r)-18:])
		}
		s.say(40, y+9, 8.5, name)
		at := vg.Length(40 + names)
		for _, k := range plan.Kinds {
			if t := node.Totals[k]; t.Count > 0 {
				length := max(vg.Length(float64(bars)*float64(t.Bytes)/float64(scale)), 1)
				s.box(at, y+1, length, 9, tone(k))
				at += length
			}
		}
		all := node.Totals.All()
		s.say(40+names+bars+12, y+9, 8.5, fmt.Sprintf("%s · %s", humanize.Comma(all.Count),
			humanize.IBytes(uint64(all.Bytes))))
	}
	s.say(40, height-16, 7, "Bars by bytes, the longest is "+humanize.IBytes(uint64(scale))+". Drawn by Lumtra.")
	return s.writeTo(w)
}
