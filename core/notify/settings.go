package notify

import (
	"fmt"
	"net/mail"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"lumtra/core/schedule"
)

// Settings are one receiver of messages: a table [notify.NAME] of service.toml.
type Settings struct {
	Name string `toml:"-"`
	// Kind is "mail", "hook" or "command".
	Kind string `toml:"kind"`
	// On are the kinds of messages it gets; none is failure, recovery, guard, missed, credentials
	// silence and lag.
	On []string `toml:"on,omitempty"`
	// Jobs are patterns of jobs' names (path.Match); none is all.
	Jobs []string `toml:"jobs,omitempty"`
	// Silence is how long a job may go without ending well before that is told, such as "26h".
	Silence string `toml:"silence,omitempty"`
	// Lag is how old what the target of a job holds may become before that is told, such as "2h": the time
	// since the last run that ended well began.
	Lag string `toml:"lag,omitempty"`
	// Digest is when all that happened is told in one message, as a start of a job: "daily at
	// 08:00"; "" tells each thing when it happens.
	Digest string `toml:"digest,omitempty"`

	// Server is a mail server's "host:port", TLS "starttls" (the usual), "implicit" or "none".
	Server  string   `toml:"server,omitempty"`
	TLS     string   `toml:"tls,omitempty"`
	CAFile  string   `toml:"ca-file,omitempty"`
	User    string   `toml:"user,omitempty"`
	From    string   `toml:"from,omitempty"`
	To      []string `toml:"to,omitempty"`
	Address string   `toml:"address,omitempty"`
	Command []string `toml:"command,omitempty"`
	// SecretFrom is where the password, or the key that signs, lies: "kept:LABEL", "env:NAME" or
	// "file:PATH".
	SecretFrom string `toml:"secret-from,omitempty"`

	digest *schedule.Schedule
}

// Check finds what is wrong: the setting, and what would be right; "" for nothing.
func (s *Settings) Check() (setting, what string) {
	for _, k := range s.On {
		if !slices.Contains(Kinds, Kind(k)) {
			return "on", fmt.Sprintf("%q is nothing that is told; there are %s", k, kindNames())
		}
	}
	for _, p := range s.Jobs {
		if _, err := path.Match(p, ""); err != nil {
			return "jobs", fmt.Sprintf("%q is no pattern of jobs' names; it reads like \"nightly-*\"", p)
		}
	}
	for _, x := range []struct{ name, text string }{{"silence", s.Silence}, {"lag", s.Lag}} {
		if d, err := time.ParseDuration(x.text); x.text != "" && (err != nil || d < time.Minute) {
			return x.name, fmt.Sprintf("%s is %q; it is a time such as \"26h\"", x.name, x.text)
		}
	}
	if s.Digest != "" {
		x, err := schedule.New(&schedule.Settings{Start: s.Digest}, nil)
		if err != nil {
			return "digest", err.Error()
		}
		if !x.Timed() {
			return "digest", fmt.Sprintf("digest is %q; it is a time such as \"daily at 08:00\"", s.Digest)
		}
		s.digest = x
	}
	switch s.Kind {
	case "mail":
		return s.checkMail()
	case "hook":
		u, err := url.Parse(s.Address)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
			return "address", "address is where the hook is: \"https://host/path\""
		}
	case "command":
		if len(s.Command) == 0 || s.Command[0] == "" {
			return "command", "command is a program and its arguments, as a list: [\"/usr/local/bin/tell\", \"night\"]"
		}
	default:
		return "kind", fmt.Sprintf("kind is %q; it is \"mail\", \"hook\" or \"command\"", s.Kind)
	}
	return "", ""
}

func kindNames() string {
	var all []string
	for _, k := range Kinds {
		all = append(all, string(k))
	}
	return strings.Join(all, ", ")
}

func (s *Settings) checkMail() (setting, what string) {
	if host, port, ok := strings.Cut(s.Server, ":"); !ok || host == "" || port == "" {
		return "server", "server is a mail server and its port, such as \"smtp.example.org:587\""
	}
	if !slices.Contains([]string{"", "starttls", "implicit", "none"}, s.TLS) {
		return "tls", fmt.Sprintf("tls is %q; it is \"starttls\", \"implicit\" or \"none\"", s.TLS)
	}
	if s.TLS == "none" && s.SecretFrom != "" {
		return "tls", "a password is not sent without TLS: tls is \"starttls\" or \"implicit\""
	}
	if _, err := mail.ParseAddress(s.From); err != nil {
		return "from", fmt.Sprintf("from is %q; it is a mail address", s.From)
	}
	if len(s.To) == 0 {
		return "to", "to is a list of mail addresses"
	}
	for _, a := range s.To {
		if _, err := mail.ParseAddress(a); err != nil {
			return "to", fmt.Sprintf("%q is no mail address", a)
		}
	}
	if (s.User == "") != (s.SecretFrom == "") {
		return "user", "user and secret-from go together"
	}
	return "", ""
}

// usual are the kinds that are told where none are named.
var usual = []Kind{Failure, Recovery, Guard, Missed, Credentials, Silence, Lag}

// Wants tells whether a receiver gets a message.
func (s *Settings) Wants(m *Message) bool {
	if m.Kind == Test {
		return true
	}
	if len(s.On) == 0 && !slices.Contains(usual, m.Kind) || len(s.On) > 0 && !slices.Contains(s.On, string(m.Kind)) {
		return false
	}
	return m.Job == "" || len(s.Jobs) == 0 || slices.ContainsFunc(s.Jobs, func(p string) bool {
		ok, _ := path.Match(p, m.Job)
		return ok
	})
}

// Most is how long a job may be silent, or what its target holds may lag behind; 0 for however long.
func (s *Settings) Most(kind Kind) time.Duration {
	text := s.Silence
	if kind == Lag {
		text = s.Lag
	}
	d, _ := time.ParseDuration(text)
	return d
}

// Target is where messages go, for people.
func (s *Settings) Target() string {
	switch s.Kind {
	case "mail":
		return s.Server + " to " + strings.Join(s.To, ", ")
	case "hook":
		return s.Address
	}
	return strings.Join(s.Command, " ")
}

// Due is when a message that is put in now may be sent: at once but for a little, so that what comes
// in a burst is told in one; at the next digest where there is one.
func (s *Settings) Due(now time.Time, kind Kind) time.Time {
	if kind == Test {
		return now
	}
	if s.digest != nil {
		if next, some := s.digest.Next(now); some {
			return next.At
		}
	}
	return now.Add(gather)
}

// gather is how long messages are gathered.
const gather = 5 * time.Second
