package proof

import (
	"context"
	"errors"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/compare"
	"lumtra/core/job"
	"lumtra/core/place"
	"lumtra/core/proof"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

type counts = map[proof.Verdict]int64

// view is the view of a proof that counted so much.
func view(objects counts, change func(p *proof.Summary)) (*Screen, *kit.JobState, *shown) {
	began := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	p := &workroom.Proof{Dir: "/proofs/4\x1b", Summary: &proof.Summary{Number: 4, Method: compare.ByReadBack,
		Began: began, Ended: began.Add(65 * time.Second), Objects: objects, Bytes: counts{proof.Same: 2048}}}
	if change != nil {
		change(p.Summary)
	}
	j := kit.JobState{Job: &job.Job{Name: "masters", Source: "studio", Target: "north", Proof: compare.BySize},
		Proof: p}
	s := newScreen(context.Background(),
		&kit.Shared{Theme: look.New(look.Dark), State: kit.State{Jobs: []kit.JobState{j}}})
	sh := s.shown(&s.State.Jobs[0])
	sh.number = 4
	return s, &s.State.Jobs[0], sh
}

func text(s *Screen, width, height int) string { return ansi.Strip(s.Render(width, height)) }

func press(s *Screen, key string) tea.Cmd {
	if code := map[string]rune{"enter": tea.KeyEnter, "left": tea.KeyLeft, "right": tea.KeyRight,
		"esc": tea.KeyEscape}[key]; code != 0 {
		return s.Update(tea.KeyPressMsg{Code: code})
	}
	return s.Update(tea.KeyPressMsg{Code: []rune(key)[0], Text: key})
}

// The verdict is green where the proof holds and nowhere else, and what keeps it from
// holding is named, in the smallest window too.
func TestVerdict(t *testing.T) {
	for _, c := range []struct {
		name    string
		objects counts
		change  func(p *proof.Summary)
		says    []string
		holds   bool
	}{
		{"all the same", counts{proof.Same: 12}, nil,
			[]string{"◗ It holds.  Everything at the source is at the target with the same content.", "proof 4 · ",
				"took 1 min 05 s · by " + string(compare.ByReadBack), "12     2.0 KiB"}, true},
		{"by size", counts{proof.Same: 12}, func(p *proof.Summary) { p.Method = compare.BySize },
			[]string{"◗ It holds.  Everything at the source is at the target with the same size."}, true},
		{"written since the plan", counts{proof.Same: 12, proof.Since: 3}, func(s *proof.Summary) { s.Plan = 8 },
			[]string{"◗ It holds.  Everything at the source, as plan 8 knew it, is at the target", "changed since"},
			true},
		{"more at the target", counts{proof.Same: 12, proof.Extra: 3}, nil, []string{"◗ It holds.", "target-only"},
			true},
		{"more at the target, and both count", counts{proof.Same: 12, proof.Extra: 3},
			func(p *proof.Summary) { p.Both = true }, []string{"▲ It does not hold.", "target-only"}, false},
		{"one is missing", counts{proof.Same: 12, proof.Missing: 1}, nil,
			[]string{"▲ It does not hold.  What follows is not at the target as it is at the source.", "missing"},
			false},
		{"one is different", counts{proof.Different: 1}, nil, []string{"▲ It does not hold.", "different"}, false},
		{"one could not be compared", counts{proof.Same: 1, proof.Unproven: 1}, nil,
			[]string{"▲ It is not proven.  Nothing was found different or missing", "not compared"}, false},
		{"one could not be compared, another is missing", counts{proof.Missing: 1, proof.Unproven: 1}, nil,
			[]string{"▲ It does not hold."}, false},
		{"a gap", counts{proof.Same: 12}, func(p *proof.Summary) { p.Gaps = 1200 },
			[]string{"▲ It does not hold.", "▲ 1,200 could not be listed, so nothing is proven of the whole"}, false},
	} {
		s, _, _ := view(c.objects, c.change)
		for _, height := range []int{roomy - 10, roomy, 60} {
			got := text(s, 140, height)
			for _, says := range c.says {
				assert.Contains(t, got, says, c.name)
			}
			if !c.holds {
				assert.NotContains(t, got, "It holds", c.name)
			}
		}
	}
	s, j, sh := view(counts{proof.Same: 1}, func(p *proof.Summary) {
		p.Ways.Target = []place.Promise{{Name: "seen", Way: "it is looked at twice", Weak: true},
			{Name: "kept", Way: "it keeps a checksum"}}
	})
	got := text(s, 140, 50)
	assert.Contains(t, got, "manifest, differences and summary in /proofs/4\\x1b")
	assert.Contains(t, got, sureness[compare.ByReadBack])
	assert.Contains(t, got, "Is studio at north? Next look: by "+string(compare.BySize))
	for range compare.Methods {
		press(s, "m")
	}
	assert.Equal(t, compare.BySize, sh.method, "the methods come round")
	press(s, "m")
	assert.Contains(t, text(s, 140, 50), "Next look: by "+string(sh.method))
	for _, m := range compare.Methods {
		assert.NotEmpty(t, sureness[m])
	}
	sh.err = errors.New("no such place")
	assert.Contains(t, text(s, 140, 50), "no such place")
	sh.err, j.Proof = nil, nil
	assert.Contains(t, text(s, 140, 50), "Never proven.")
	assert.Nil(t, press(s, "x"), "there is nothing to write")
	press(s, "f")
	sh.proving = &workroom.Activity{}
	sh.proving.Compared.Objects.Store(1234)
	assert.Contains(t, text(s, 140, 50), "1,234 objects")
	stopped := false
	sh.stop = func() { stopped = true }
	assert.Nil(t, press(s, "v"), "one at a time")
	assert.NotNil(t, press(s, "esc"))
	assert.True(t, stopped)
	s.State.Jobs = nil
	assert.Contains(t, text(s, 140, 50), "No job to prove.")
	assert.Empty(t, s.Keys())
}

// tally is a line's counts, in the order of proof.Verdicts.
func tally(objects ...int64) (t proof.Tally) {
	copy(t.Objects[:], objects)
	copy(t.Bytes[:], objects)
	return t
}

// The tree shows what differs, by folder and by verdict, and why.
func TestTree(t *testing.T) {
	s, j, sh := view(counts{proof.Missing: 3, proof.Different: 1}, nil)
	line := &proof.Line{Key: "wet/a.wav", Verdict: proof.Different, Why: "sums\x1b differ"}
	top := []proof.Node{{Name: "dry/", Tally: tally(0, 3)}, {Name: "wet/", Tally: tally(0, 0, 1)}}
	s.Update(folderMsg{job: "masters", number: 4, nodes: top})
	got := text(s, 140, 50)
	assert.Regexp(t, `what differs +missing +different +bytes`, got)
	assert.Regexp(t, `▌ ▸ dry/ +○+ +3 +3 B`, got)
	assert.Regexp(t, `▸ wet/ +≠+ +1 +1 B`, got)
	assert.Contains(t, got, "3 missing (3 B)")
	press(s, "j")
	assert.NotNil(t, press(s, "right"), "it is read")
	assert.Nil(t, press(s, "right"), "once")
	s.Update(folderMsg{job: "masters", number: 4, under: sh.tree.Rows[1],
		nodes: []proof.Node{{Name: "a.wav", Tally: tally(0, 0, 1), Line: line}}})
	assert.Len(t, sh.tree.Rows, 3)
	press(s, "j")
	assert.Contains(t, text(s, 140, 50), `different: sums\x1b differ`)
	assert.Nil(t, press(s, "enter"), "an object does not open")
	press(s, "left")
	assert.Equal(t, 1, s.cursor.At)
	press(s, "left")
	assert.Len(t, sh.tree.Rows, 2)
	press(s, "enter")
	assert.Len(t, sh.tree.Rows, 3, "what was read is not read again")
	press(s, "f")
	assert.Len(t, sh.tree.Rows, 1)
	assert.Contains(t, text(s, 140, 50), "only missing")
	press(s, "f")
	assert.Contains(t, text(s, 140, 50), "only different")
	press(s, "f")
	assert.Len(t, sh.tree.Rows, 3)
	s.Update(folderMsg{job: "gone", number: 4, nodes: top})
	s.Update(folderMsg{job: "masters", number: 4, under: sh.tree.Rows[0], err: errors.New("unreadable")})
	assert.Contains(t, text(s, 140, 50), "unreadable")
	s.cursor.At = 0
	press(s, "left")
	assert.NotNil(t, press(s, "right"), "it can be read another time")
	sh.err = nil
	s.cursor.At = 99
	assert.Nil(t, press(s, "enter"))
	j.Proof.Number = 5
	assert.NotNil(t, s.Update(kit.StateMsg{}), "another proof is read")
	assert.Nil(t, s.Update(kit.StateMsg{}), "once")
}

// A proof that was stopped leaves the one before; one that ended is shown at once.
func TestProved(t *testing.T) {
	s, j, sh := view(counts{proof.Same: 1}, nil)
	sh.proving = &workroom.Activity{}
	cmd := s.Update(provedMsg{job: "masters", err: context.Canceled})
	require.NotNil(t, cmd)
	assert.Equal(t, kit.Say{Text: "The proof was stopped; the one before stands."}, cmd())
	assert.Nil(t, sh.proving)
	assert.Equal(t, 4, j.Proof.Number)
	s.Update(provedMsg{job: "masters", err: errors.New("no answer")})
	assert.Contains(t, text(s, 140, 50), "no answer")
	assert.Equal(t, 4, j.Proof.Number)
	sh.err = nil
	assert.NotNil(t, s.Update(provedMsg{job: "masters",
		proof: &workroom.Proof{Summary: &proof.Summary{Number: 5, Objects: counts{proof.Missing: 1}}}}))
	assert.Contains(t, text(s, 140, 50), "▲ It does not hold.")
	assert.Nil(t, s.Update(provedMsg{job: "gone"}))
	keys := func() (all string) {
		for _, k := range s.Keys() {
			if all += k.Press; k.Off != "" {
				all += "?"
			}
		}
		return all
	}
	assert.Equal(t, "vmxJ", keys(), "what does not hold can be mended")
	j.Proof.Objects = counts{}
	assert.Equal(t, "vmxJ?", keys(), "and what holds need not be")
}
