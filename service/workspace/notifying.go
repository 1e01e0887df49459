package workspace

import (
	"fmt"
	"path/filepath"
	"strings"

	"lumtra/core/job"
	"lumtra/core/notify"
	"lumtra/core/place/kind"
	"lumtra/core/secret"
)

// notifyUse is what a receiver of messages uses, and where it goes. Settings may come from somebody
// else: a person confirms once that messages go there, with which secret, or that a program is run.
func (s *Keeper) notifyUse(n *notify.Settings) Use {
	u := Use{Endpoint: "notify " + n.Name, What: "messages", Address: n.Target()}
	switch {
	case n.Kind == "command":
		u.What = "a program that is run"
	case n.SecretFrom != "":
		u.What = "messages and " + s.secretPath(n.SecretFrom)
	}
	if n.CAFile != "" {
		u.Address += " with the certificates of " + s.Below(n.CAFile)
	}
	return u
}

// NotifyUse is what a receiver of messages, by name, uses.
func (s *Keeper) NotifyUse(name string) (Use, error) {
	n := s.Workspace().Service.Notify[name]
	if n == nil {
		return Use{}, BadInput(fmt.Errorf("there is no notify %q in service.toml", name))
	}
	return s.notifyUse(n), nil
}

// MayNotify refuses a receiver that nobody has confirmed.
func (s *Keeper) MayNotify(n *notify.Settings) error {
	u := s.notifyUse(n)
	if s.opts.Trust {
		return s.Confirm(u)
	}
	known, err := s.confirmed()
	if err != nil {
		return err
	}
	if !known[Use{What: u.What, Address: u.Address}] {
		return BadInput(fmt.Errorf("%w: notify %s sends %s, which nobody here has let it yet; `lumtra notify "+
			"confirm %s` does",
			ErrUnconfirmed, n.Name, u, n.Name))
	}
	return nil
}

// Secret is what a reference of the workspace's settings stands for: "kept:LABEL", "env:NAME" or
// "file:PATH".
func (s *Keeper) Secret(ref string) (secret.Text, error) {
	if label, ok := strings.CutPrefix(ref, kind.KeptCredential); ok {
		c, err := s.secrets.Get(label)
		return c.Secret, err
	}
	return secret.Resolve(s.secretPath(ref))
}

// LocalPath is the path of a place that lies in a folder of this machine; false for other places.
func (s *Keeper) LocalPath(place string) (string, bool) {
	end, path := job.SplitPlace(place)
	e := s.Workspace().Endpoints[end]
	if e == nil || e.Kind != "folder" {
		return "", false
	}
	return filepath.Join(s.Below(e.Path), filepath.FromSlash(path)), true
}

// Path is a path that the workspace's settings name; "" for none.
func (s *Keeper) Path(path string) string {
	if path == "" {
		return ""
	}
	return s.Below(path)
}
