package frame

import (
	"errors"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/job"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// preferred brings a person's preferences, as they were read.
type preferred struct {
	is  *job.Preferences
	err error
}

func readPreferences(path string) preferred {
	if path == "" {
		return preferred{&job.Preferences{}, errors.New("there is no folder for settings: neither HOME nor " +
			"XDG_CONFIG_HOME is set")}
	}
	p, err := job.LoadPreferences(path)
	return preferred{p, err}
}

// prefer takes preferences over. What is wrong in them is told in Settings, and at once.
func (m *model) prefer(p preferred) tea.Cmd {
	sh := m.shared
	was := sh.Preferences
	sh.Preferences, sh.PreferencesErr = p.is, p.err
	if p.err != nil { // a file that is half written may not turn keys round
		p.is.Keys = nil
	}
	keys, err := newKeymap(p.is)
	if m.keys = keys; err != nil {
		sh.PreferencesErr = errors.Join(sh.PreferencesErr, err)
		m.keys = keymap{}
	}
	sh.Theme = look.Chosen(m.ground, look.Choice(p.is.Theme))
	kit.Decimal(p.is.Units == "decimal")
	if was == nil || was.Rates != p.is.Rates {
		sh.Bits = p.is.Rates == "bits"
	}
	m.pictures()
	if sh.PreferencesErr != nil {
		return kit.Cmd(kit.Say{Text: "Settings: " + kit.Reason(sh.PreferencesErr), Bad: true})
	}
	return nil
}
