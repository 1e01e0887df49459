package places

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/object"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
	"lumtra/core/probe"
	"lumtra/core/secret"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// Ways to sign, as the form words them.
const (
	withNew     = "a new secret, kept encrypted"
	withKept    = "one that is kept"
	withProfile = "a shared profile"
	withChain   = "what this machine has (shared chain)"
	withRef     = "a variable or file (env:NAME, file:PATH)"
	withNone    = "nothing: it is public"
)

// addEndpoint asks for anything that names a place, and takes it apart.
func (s *Screen) addEndpoint() tea.Cmd {
	f := &kit.Form{Title: "A new endpoint", Does: "go on",
		Notes: []string{"Paste an address, a whole signed address, or type the path of a folder or of a list of web " +
			"addresses (.csv, .txt)."},
		Fields: []*kit.Field{{Name: "where", Hint: "https://… or /a/folder", HiddenIf: signedAddress}}}
	f.Submit = func(f *kit.Form) tea.Cmd { return s.pastedEndpoint(f, f.Get("where")) }
	return s.form(f)
}

// signedAddress tells that a text holds a secret.
func signedAddress(v string) bool {
	return strings.Contains(v, "sig=") || strings.Contains(v, "Signature=")
}

// isAddress tells an address from the name of a bucket or a folder: it was pasted where those are
// asked for, and an endpoint is meant.
func isAddress(v string) bool {
	return strings.HasPrefix(v, "http://") || strings.HasPrefix(v, "https://")
}

// pastedEndpoint goes on with an endpoint of what was typed or pasted into the form.
func (s *Screen) pastedEndpoint(f *kit.Form, where string) tea.Cmd {
	p, err := kinds.Read(where)
	if err != nil {
		f.Err = err
		return nil
	}
	return s.endpointForm("", p)
}

// editEndpoint changes the settings of the endpoint under the cursor.
func (s *Screen) editEndpoint() tea.Cmd {
	at, _ := s.at()
	e := s.endpointOf(at.Endpoint)
	if e == nil {
		return nil
	}
	return s.endpointForm(e.Name, kind.Pasted{Endpoint: *e})
}

// endpointForm asks for the rest of an endpoint; was is its name so far.
func (s *Screen) endpointForm(was string, p kind.Pasted) tea.Cmd {
	e := p.Endpoint
	kept, err := s.Service.Credentials()
	if err != nil {
		return kit.Cmd(kit.Say{Text: oneLine(err), Bad: true})
	}
	k := kinds.Of(&e)
	f := &kit.Form{Title: "A new endpoint: " + kindText(&e), Does: "try it"}
	if was != "" {
		f.Title = "Settings of " + was
	}
	if p.Access != nil {
		f.Notes = accessText(p.Access, s.Now())
	}
	name := e.Name
	if name == "" {
		name = suggest(&e)
	}
	add := func(x *kit.Field) { f.Fields = append(f.Fields, x) }
	add(&kit.Field{Name: "name", Value: name})
	if k.Signs == nil {
		add(&kit.Field{Name: "path", Value: e.Path})
	} else {
		if e.StandIn == "" {
			add(&kit.Field{Name: "address", Value: e.Address})
		}
		can := []*kind.Kind{k}
		if was == "" && p.Credential == nil {
			can = kinds.Alike(p)
			add(&kit.Field{Name: "speaks", Value: k.Speaks, Choices: speaking(can)})
		}
		s.signFields(f, was, p, kept, can)
		askFields(f, &e, can)
	}
	if !k.ReadOnly {
		ways := []string{"writing too: a small object, deleted again", "reading only"}
		add(&kit.Field{Name: "try", Value: ways[0], Choices: ways})
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		e, given, err := s.endpointOfForm(f, p)
		if err != nil {
			f.Err = err
			return nil
		}
		return s.tryEndpoint(f, was, e, given, strings.HasPrefix(f.Asked("try"), "writing"))
	}
	return s.form(f)
}

// speaking are the words for kinds.
func speaking(can []*kind.Kind) (words []string) {
	for _, k := range can {
		words = append(words, k.Speaks)
	}
	return words
}

// chosen is the kind that a form is about now, of settings that were e so far.
func chosen(f *kit.Form, e *kind.Settings) *kind.Kind {
	for _, k := range kinds.All {
		if k.Speaks == f.Get("speaks") {
			return k
		}
	}
	return kinds.Of(e)
}

// askFields ask for what the kinds an endpoint can be of ask for, each where it is of a kind
// that does.
func askFields(f *kit.Form, e *kind.Settings, can []*kind.Kind) {
	asked := map[string]bool{}
	for _, k := range can {
		for _, a := range k.Asks {
			if asked[a.Label] {
				continue
			}
			asked[a.Label] = true
			x := &kit.Field{Name: a.Label, Value: *a.Of(e), Hint: a.Hint, Choices: a.Choices}
			if x.Value == "" && len(a.Choices) > 0 {
				x.Value = a.Choices[0]
			}
			x.When = func(f *kit.Form) bool {
				return slices.ContainsFunc(chosen(f, e).Asks, func(b kind.Ask) bool { return b.Label == a.Label })
			}
			f.Fields = append(f.Fields, x)
		}
	}
}

// removeEndpoint asks before the settings of an endpoint go.
func (s *Screen) removeEndpoint(name string) tea.Cmd {
	f := &kit.Form{Title: "Delete the settings of " + name, Does: "delete them",
		Warning: []string{"The endpoint goes from endpoints.toml."},
		Notes: []string{"What lies there stays, and so does a kept credential. An endpoint that a job names is " +
			"not deleted."}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		return try(f, "deleting", func() (tea.Msg, error) {
			return doneMsg{say: "Deleted the settings of " + name + "."}, s.Service.RemoveEndpoint(name)
		})
	}
	return s.form(f)
}

// suggest makes a name of where an endpoint is.
func suggest(e *kind.Settings) string {
	text := e.Bucket
	if text == "" {
		text = e.Account
	}
	if text == "" {
		_, text, _ = strings.Cut(e.Address, "://")
	}
	if e.Path != "" {
		text = strings.TrimSuffix(filepath.Base(e.Path), filepath.Ext(e.Path))
	}
	text = strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-', r == '_':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, text)
	return strings.Trim(text[:min(len(text), 40)], "-_")
}

// accessText says what a signed access allows, and until when.
func accessText(a *kind.Access, now time.Time) []string {
	where := "the whole account"
	if a.Bucket != "" {
		where = "the container " + a.Bucket
	}
	if a.Blob != "" {
		where += ", the blob " + a.Blob
	}
	what := "what its policy " + a.Policy + " says"
	if len(a.Allows) > 0 {
		what = strings.Join(a.Allows, ", ")
	}
	lines := []string{"A signed access to " + where + ". It allows: " + what + "."}
	if text := a.Validity(now); text != "" {
		lines = append(lines, text)
	}
	return append(lines, "Its signature is taken as a secret and is not shown again.")
}

// signFields ask what an endpoint signs with.
func (s *Screen) signFields(f *kit.Form, was string, p kind.Pasted, kept []workspace.KeptCredential, can []*kind.Kind) {
	e := p.Endpoint
	is := func(ways ...string) func(*kit.Form) bool {
		return func(f *kit.Form) bool {
			for _, w := range ways {
				if f.Get("sign with") == w {
					return true
				}
			}
			return false
		}
	}
	ways := []string{withNew, withRef}
	if len(kept) > 0 {
		ways = append(ways, withKept)
	}
	if kinds.Of(&e).Signs.Shared {
		ways = append(ways, withProfile, withChain)
	}
	ways = append(ways, withNone)
	value := ways[0]
	switch profile, named := strings.CutPrefix(e.Credential, kind.ProfileCredential); {
	case e.Kept() != "":
		value = withKept
	case named && profile != "":
		value = withProfile
	case e.Credential == kind.ChainCredential:
		value = withChain
	case e.SecretFrom != "" || e.SignatureFrom != "":
		value = withRef
	case was != "":
		value = withNone
	}
	add := func(x *kit.Field) { f.Fields = append(f.Fields, x) }
	if p.Credential != nil { // pasted with the address
		add(&kit.Field{Name: "keep it as", Value: "", Hint: "the endpoint's name"})
		return
	}
	add(&kit.Field{Name: "sign with", Value: value, Choices: ways})
	for _, k := range can {
		add(&kit.Field{Name: k.Signs.Who, Value: *k.Signs.Name(&e),
			When: func(f *kit.Form) bool { return is(withNew, withRef)(f) && chosen(f, &e) == k }})
	}
	add(&kit.Field{Name: "secret", Hidden: true, Hint: "typed or pasted; not shown", When: is(withNew)})
	add(&kit.Field{Name: "session token", Hidden: true, Hint: "none",
		When: func(f *kit.Form) bool { return is(withNew)(f) && chosen(f, &e).Signs.Tokens }})
	add(&kit.Field{Name: "keep it as", Hint: "the endpoint's name", When: is(withNew)})
	add(&kit.Field{Name: "secret from", Value: e.SecretFrom + e.SignatureFrom, Hint: "env:NAME or file:PATH",
		When: is(withRef)})
	var labels []string
	for _, k := range kept {
		labels = append(labels, k.Label)
	}
	if len(labels) > 0 {
		add(&kit.Field{Name: "kept as", Value: cmp.Or(e.Kept(), labels[0]), Choices: labels, When: is(withKept)})
	}
	add(&kit.Field{Name: "profile", Value: strings.TrimPrefix(e.Credential, kind.ProfileCredential), Hint: "default",
		When: is(withProfile)})
}

// endpointOfForm reads the form into settings and, if there is one, a secret to
// keep.
func (s *Screen) endpointOfForm(f *kit.Form, p kind.Pasted) (kind.Settings, *secret.Credential, error) {
	e := p.Endpoint
	e.Name = f.Get("name")
	if e.Path != "" {
		e.Path = f.Get("path")
		return e, nil, nil
	}
	if e.StandIn == "" {
		e.Address = strings.TrimRight(f.Get("address"), "/")
	}
	if speaks := f.Get("speaks"); speaks != "" {
		k := chosen(f, &e)
		if k.Name != e.Kind && e.Address == p.Endpoint.Address && f.Get("only bucket") == p.Endpoint.Bucket {
			e = kinds.As(p, k.Name).Endpoint // what the path of the address means depends on it
			e.Name = f.Get("name")
		}
		e.Kind = k.Name
	}
	signs := kinds.Of(&e).Signs
	for _, a := range kinds.Of(&e).Asks {
		now := f.Asked(a.Label)
		if len(a.Choices) > 0 && now == a.Choices[0] {
			now = ""
		}
		if now != *a.Of(&p.Endpoint) {
			*a.Of(&e) = now
		}
	}
	label := cmp.Or(f.Get("keep it as"), e.Name)
	if p.Credential != nil {
		given := *p.Credential
		given.Label = label
		return e, &given, nil
	}
	who, ref := f.Asked(signs.Who), f.Get("secret from")
	e.Credential, *signs.Name(&e), e.SecretFrom, e.SignatureFrom = "", "", "", ""
	switch f.Get("sign with") {
	case withNew:
		if f.Get("secret") == "" {
			return e, nil, errors.New("the secret is missing")
		}
		given := &secret.Credential{Kept: secret.Kept{Label: label, Kind: signs.As, Name: who},
			Secret: secret.New(f.Get("secret")), Token: secret.New(f.Get("session token"))}
		if signs.Access && strings.Contains(f.Get("secret"), "sig=") {
			given.Kind, given.Name = secret.SignedAccess, ""
		}
		return e, given, nil
	case withKept:
		e.Credential = kind.KeptCredential + f.Get("kept as")
	case withProfile:
		e.Credential = kind.ProfileCredential + cmp.Or(f.Get("profile"), "default")
	case withChain:
		e.Credential = kind.ChainCredential
	case withRef:
		if signs.Access && who == "" {
			e.SignatureFrom = ref
		} else {
			*signs.Name(&e), e.SecretFrom = who, ref
		}
	}
	return e, nil, nil
}

// testSheet shows a test as it goes, and leads on: to saving, or back to mend.
type testSheet struct {
	s     *Screen
	title string
	stop  context.CancelFunc

	mu     sync.Mutex
	report *probe.Report
	err    error
	ended  bool

	form *kit.Form // to go back to; nil for an endpoint that is saved
	save func(*probe.Report) tea.Cmd

	quiet kit.Quiet // since when no step has ended
}

// testedMsg tells a test sheet that its test is over.
type testedMsg struct {
	sheet  *testSheet
	report *probe.Report
	err    error
}

// tryEndpoint tests settings that are not saved yet.
func (s *Screen) tryEndpoint(f *kit.Form, was string, e kind.Settings, given *secret.Credential, write bool) tea.Cmd {
	x := &testSheet{s: s, title: "Trying " + e.Name, form: f}
	x.save = func(r *probe.Report) tea.Cmd {
		return func() tea.Msg {
			if err := s.Service.SaveEndpoint(was, e, given); err != nil {
				return failedMsg{err}
			}
			say := "Saved " + e.Name + "."
			if r != nil {
				if err := s.Service.KeepReport(e.Name, r); err != nil {
					say += " What was found is not kept: " + oneLine(err)
				}
			}
			return doneMsg{say: say, focus: &workspace.At{Endpoint: e.Name}, again: []workspace.At{{Endpoint: e.Name}}}
		}
	}
	return s.test(x, func(ctx context.Context, opts probe.Options) (*probe.Report, error) {
		return s.Service.TryEndpoint(ctx, e, given, opts)
	}, probe.Options{Write: write})
}

// testEndpoint tests an endpoint that is saved, in the bucket of the cursor.
func (s *Screen) testEndpoint() tea.Cmd {
	at, _ := s.at()
	if at.Endpoint == "" {
		return nil
	}
	ways := []string{"writing too: a small object, deleted again", "reading only"}
	f := &kit.Form{Title: "Try " + at.Endpoint, Does: "try it",
		Fields: []*kit.Field{{Name: "try", Value: ways[0], Choices: ways},
			{Name: "in bucket", Value: at.Bucket, Hint: "the first one there is",
				When: func(*kit.Form) bool { return s.hasBuckets(at.Endpoint) }}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		x := &testSheet{s: s, title: "Trying " + at.Endpoint}
		opts := probe.Options{Write: f.Get("try") == ways[0], Bucket: f.Get("in bucket")}
		return s.test(x, func(ctx context.Context, opts probe.Options) (*probe.Report, error) {
			return s.Service.TestEndpoint(ctx, at.Endpoint, opts)
		}, opts)
	}
	return s.form(f)
}

func (s *Screen) test(x *testSheet, run func(context.Context, probe.Options) (*probe.Report, error),
	opts probe.Options) tea.Cmd {
	ctx, stop := context.WithCancel(s.ctx)
	x.stop = stop
	x.quiet.Note(0, s.Now())
	opts.Each = func(r probe.Report) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.report = &r
		x.quiet.Note(int64(len(r.Checks)), s.Now())
	}
	s.sheet = x
	return tea.Batch(s.beat(), func() tea.Msg {
		defer stop()
		r, err := run(ctx, opts)
		return testedMsg{x, r, err}
	})
}

func (x *testSheet) close() { x.stop() }

func (x *testSheet) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case testedMsg:
		if msg.sheet == x {
			x.mu.Lock()
			defer x.mu.Unlock()
			if x.ended, x.err = true, msg.err; msg.report != nil {
				x.report = msg.report
			}
			delete(x.s.reports, endpointName(msg.report))
		}
	case failedMsg:
		x.err = msg.err
	case tea.KeyPressMsg:
		x.mu.Lock()
		defer x.mu.Unlock()
		switch key := msg.String(); {
		case key == "m" && x.form != nil:
			x.stop()
			x.form.Busy, x.form.Err = "", nil
			x.s.sheet = &formSheet{x.s, x.form}
		case key == "enter" && x.ended && x.save != nil:
			return x.save(x.report)
		case key == "enter" && x.ended:
			return x.s.closeSheet()
		}
	}
	return nil
}

func endpointName(r *probe.Report) string {
	if r == nil {
		return ""
	}
	return r.Endpoint
}

func (x *testSheet) keys() []kit.Key {
	keys := []kit.Key{{Press: "esc", Does: "leave it"}}
	if x.form != nil {
		keys = append([]kit.Key{{Press: "enter", Does: "save: the endpoint"},
			{Press: "m", Does: "mend: back to the settings"}}, keys...)
	}
	return keys
}

var outcomes = map[probe.Outcome]string{probe.Fine: "●", probe.Refused: "▲", probe.Absent: "–", probe.Untried: "○"}

func (x *testSheet) lines(width, height int) []string {
	x.mu.Lock()
	defer x.mu.Unlock()
	t := x.s.Theme
	l := &liner{s: x.s, width: width}
	l.lines = append(l.lines, t.Strong.Render(kit.Name(x.title, width)), "")
	if r := x.report; r != nil {
		for _, c := range r.Checks {
			x.check(l, c)
		}
	}
	if x.ended && x.report != nil {
		l.promises(x.report.Promises)
	}
	l.gap()
	switch {
	case x.err != nil:
		l.text(t.Flare.Render, kit.Reason(x.err))
	case !x.ended:
		l.text(t.Lamp.Render, strings.TrimSpace("trying … "+kit.WaitingFor(strings.TrimPrefix(x.title, "Trying "),
			x.quiet.Since(), x.s.Now(), "esc leaves it")))
	case x.report.Refused() > 0:
		l.text(t.Flare.Render, fmt.Sprintf("%s denied. What is listed with it says what to ask for.",
			object.Count(int64(x.report.Refused()), "step")))
	case slices.ContainsFunc(x.report.Checks, func(c probe.Check) bool { return c.Outcome == probe.Absent }):
		l.text(t.Tide.Render, "Nothing was denied. What the store does not do is done in another way, or left.")
	default:
		l.text(t.Tide.Render, "All that was tried works.")
	}
	if x.ended && x.form != nil {
		l.lines = append(l.lines, "",
			t.Lamp.Render("enter")+t.Ash.Render(" save it  "+
				" ")+t.Lamp.Render("m")+t.Ash.Render(" mend the settings  "+
				" ")+t.Lamp.Render("esc")+t.Ash.Render(" leave it"))
	}
	if n := len(l.lines); n > height && height > 1 { // what came last tells most
		return append(l.lines[:1:1], l.lines[n-height+1:]...)
	}
	return l.lines
}

func (x *testSheet) check(l *liner, c probe.Check) {
	t := x.s.Theme
	style := map[probe.Outcome]func(...string) string{probe.Fine: t.Tide.Render, probe.Refused: t.Flare.Render,
		probe.Absent: t.Ash.Render, probe.Untried: t.Ash.Render}[c.Outcome]
	took := ""
	if c.Took >= time.Millisecond {
		took = kit.Span(c.Took)
	}
	room := max(l.width-30, 10)
	for i, part := range kit.Wrap(object.Display(c.Found), room) {
		if i == 0 {
			l.lines = append(l.lines, style(outcomes[c.Outcome]+" ")+t.Paper.Render(kit.Fit(c.Name, 16))+" "+
				kit.Fit(t.Paper.Render(part), room)+" "+t.Ash.Render(kit.FitLeft(took, 8)))
		} else {
			l.lines = append(l.lines, strings.Repeat(" ", 19)+t.Paper.Render(part))
		}
	}
	if c.Mend != "" {
		for _, part := range kit.Wrap(object.Display(c.Mend), max(l.width-19, 10)) {
			l.lines = append(l.lines, strings.Repeat(" ", 19)+t.Lamp.Render(part))
		}
	}
}
