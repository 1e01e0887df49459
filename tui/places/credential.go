package places

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/object"
	"lumtra/core/secret"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// credentials lists what is kept, with a cursor.
type credentials struct {
	s      *Screen
	all    []workspace.KeptCredential
	how    secret.Lock
	locked bool
	err    error
	cursor kit.Cursor
}

// credentialSheet shows the kept credentials: never a secret, only what tells
// one from another and who uses it.
func (s *Screen) credentialSheet() tea.Cmd {
	x := &credentials{s: s}
	x.read()
	s.sheet = x
	return nil
}

func (x *credentials) read() {
	x.all, x.err = x.s.Service.Credentials()
	if x.err == nil {
		x.how, x.locked, x.err = x.s.Service.CredentialsLocked()
	}
}

func (x *credentials) keys() []kit.Key {
	keys := []kit.Key{{Press: "a", Does: "add one"}, {Press: "l", Does: "lock: passphrase or key file"},
		{Press: "esc", Does: "back"}}
	if len(x.all) > 0 {
		keys = append([]kit.Key{{Press: "r", Does: "rotate: another secret"}, {Press: "x", Does: "delete: this one"}},
			keys...)
	}
	if x.locked {
		keys = append([]kit.Key{{Press: "u", Does: "unlock"}}, keys...)
	}
	return keys
}

func (x *credentials) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case failedMsg:
		x.err = msg.err
	case tea.KeyPressMsg:
		key := msg.String()
		if x.cursor.Key(key, len(x.all), 10) {
			return nil
		}
		switch {
		case key == "a":
			return x.s.keepForm(secret.Kept{})
		case key == "u":
			return x.s.unlockForm()
		case key == "l":
			return x.s.lockForm()
		case len(x.all) == 0:
			return nil
		case key == "r":
			return x.s.keepForm(x.all[x.cursor.At].Kept)
		case key == "x":
			return x.s.removeCredentialForm(x.all[x.cursor.At].Label)
		}
	}
	return nil
}

func (x *credentials) lines(width, height int) []string {
	t := x.s.Theme
	l := &liner{s: x.s, width: width}
	l.lines = append(l.lines, t.Strong.Render("Kept credentials"), "")
	how := "their key lies in a file beside them"
	if x.how == secret.LockPassphrase {
		how = "their key is locked with a passphrase"
	}
	if x.locked {
		how += "; u unlocks"
	}
	l.text(t.Ash.Render, "Encrypted in the state folder; "+how+".")
	l.gap()
	if x.err != nil {
		l.text(t.Flare.Render, kit.Reason(x.err))
		l.gap()
	}
	if len(x.all) == 0 {
		l.text(t.Paper.Render, "None yet: a keeps one, or it is kept with a new endpoint.")
	}
	first, last := x.cursor.Window(len(x.all), max((height-len(l.lines))/3, 1))
	for i := first; i < last; i++ {
		c := x.all[i]
		used := t.Ash.Render("not used")
		if len(c.UsedBy) > 0 {
			used = t.Tide.Render("used by " + strings.Join(c.UsedBy, ", "))
		}
		l.lines = append(l.lines, kit.Row(t, t.Strong.Render(c.Label)+"  "+t.Ash.Render(string(c.Kind))+"  "+used,
			width, i == x.cursor.At))
		text := fmt.Sprintf("  %s  fingerprint %s  set %s", c.Name, c.Fingerprint,
			c.Changed.Local().Format("2006-01-02 15:04"))
		l.lines = append(l.lines, t.Paper.Render("  "+kit.Fit(object.Display(text), width-2)))
		if !c.Until.IsZero() {
			l.lines = append(l.lines, t.Lamp.Render("    good until "+c.Until.Local().Format("2006-01-02 15:04")))
		}
	}
	return l.lines
}

// keepForm takes a new credential, or another secret for a known one.
func (s *Screen) keepForm(known secret.Kept) tea.Cmd {
	kinds := []string{string(secret.KeyPair), string(secret.AccountKey), string(secret.SignedAccess)}
	f := &kit.Form{Title: "Keep a credential", Does: "keep it",
		Notes: []string{"The secret is not shown, now or later: only its fingerprint is."}}
	if known.Label != "" {
		f.Title = "Another secret for " + known.Label
		f.Notes = append(f.Notes, "Every endpoint that uses it signs with the new one from its next request.")
	}
	notAccess := func(f *kit.Form) bool { return f.Get("kind") != string(secret.SignedAccess) }
	f.Fields = []*kit.Field{
		{Name: "label", Value: known.Label, Hint: "north", When: func(*kit.Form) bool { return known.Label == "" }},
		{Name: "kind", Value: cmp.Or(string(known.Kind), kinds[0]), Choices: kinds},
		{Name: "key or account", Value: known.Name, When: notAccess},
		{Name: "secret", Hidden: true, Hint: "typed or pasted; not shown"},
		{Name: "session token", Hidden: true, Hint: "none",
			When: func(f *kit.Form) bool { return f.Get("kind") == string(secret.KeyPair) }},
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		if f.Get("secret") == "" {
			f.Err = errors.New("the secret is missing")
			return nil
		}
		c := secret.Credential{Kept: secret.Kept{Label: f.Get("label"), Kind: secret.Kind(f.Get("kind")),
			Name: f.Asked("key or account")},
			Secret: secret.New(f.Get("secret")), Token: secret.New(f.Asked("session token"))}
		return try(f, "sealing", func() (tea.Msg, error) {
			return doneMsg{say: "Kept " + c.Label + ", fingerprint " + c.Secret.Fingerprint() + "."},
				s.Service.KeepCredential(c)
		})
	}
	return s.form(f)
}

// removeCredentialForm asks before a secret goes: nothing brings it back.
func (s *Screen) removeCredentialForm(label string) tea.Cmd {
	f := &kit.Form{Title: "Delete the credential " + label, Does: "delete it",
		Warning: []string{"Its secret is gone then. Type its label, " + label + ", to go ahead."},
		Fields:  []*kit.Field{{Name: "label", Hint: "the label above"}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		if f.Get("label") != label {
			f.Err = fmt.Errorf("that is not its label: %s", label)
			return nil
		}
		return try(f, "deleting", func() (tea.Msg, error) {
			return doneMsg{say: "Deleted the credential " + label + "."}, s.Service.RemoveCredential(label)
		})
	}
	return s.form(f)
}

func (s *Screen) unlockForm() tea.Cmd {
	f := &kit.Form{Title: "Unlock the kept credentials", Does: "unlock",
		Notes:  []string{"For as long as this window is open."},
		Fields: []*kit.Field{{Name: "passphrase", Hidden: true}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		passphrase := secret.New(f.Get("passphrase"))
		return try(f, "unlocking", func() (tea.Msg, error) {
			return doneMsg{say: "The kept credentials are unlocked."}, s.Service.Unlock(passphrase)
		})
	}
	return s.form(f)
}

func (s *Screen) lockForm() tea.Cmd {
	ways := []string{"a passphrase", "a key file beside them", "a key file elsewhere"}
	f := &kit.Form{Title: "How the kept credentials are locked", Does: "lock them so",
		Notes: []string{"Everything is sealed anew with a new key. With a passphrase, " + workspace.PassphraseFrom +
			"=env:NAME or file:PATH lets Lumtra work with nobody there."},
		Fields: []*kit.Field{{Name: "with", Value: ways[0], Choices: ways},
			{Name: "passphrase", Hidden: true, Hint: "eight characters or more",
				When: func(f *kit.Form) bool { return f.Get("with") == ways[0] }},
			{Name: "once more", Hidden: true, When: func(f *kit.Form) bool { return f.Get("with") == ways[0] }},
			{Name: "file", Hint: "/media/stick/lumtra.key",
				When: func(f *kit.Form) bool { return f.Get("with") == ways[2] }}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		how := secret.LockFile
		if f.Get("with") == ways[0] {
			if how = secret.LockPassphrase; f.Get("passphrase") != f.Get("once more") {
				f.Err = errors.New("the two are not the same")
				return nil
			}
		}
		passphrase, at := secret.New(f.Asked("passphrase")), f.Asked("file")
		return try(f, "sealing anew", func() (tea.Msg, error) {
			left, err := s.Service.Relock(how, passphrase, at)
			say := "The kept credentials are locked with " + f.Get("with") + "."
			if left != "" {
				say += " Nothing is sealed with " + left + " any more: it is yours to delete."
			}
			return doneMsg{say: say}, err
		})
	}
	return s.form(f)
}
