package workspace

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"

	"lumtra/core/place/kind"
	"lumtra/service/state"
)

// Use is a secret that an endpoint's settings refer to, and where it would go. Settings
// may come from somebody else, and name any variable or file of this machine and any
// address; so a person confirms each such pair once.
type Use struct {
	Endpoint string `json:"-"`
	// What is the reference: "env:NAME", "file:PATH", "kept:LABEL", "profile:NAME" or
	// "chain".
	What string `json:"what"`
	// Address is where it goes, with what it passes on the way.
	Address string `json:"address,omitempty"`
	// Dropped takes back all that was confirmed of What.
	Dropped bool `json:"dropped,omitempty"`
}

// ErrUnconfirmed means that nobody has let an endpoint use a secret yet.
var ErrUnconfirmed = errors.New("its secret is not confirmed")

// String is the question's content.
func (u Use) String() string { return fmt.Sprintf("%s for %s", u.What, u.Address) }

// uses are the references of an endpoint. A stand-in of our own gets none of them past
// this process.
func (s *Keeper) uses(e *kind.Settings) []Use {
	if e.StandIn != "" {
		return nil
	}
	at := e.Address
	if u, err := url.Parse(e.Address); err == nil && u.Host != "" {
		at = strings.ToLower(u.Scheme + "://" + u.Host)
	}
	if e.Proxy != "" {
		at += " through " + e.Proxy
	}
	if e.CAFile != "" {
		at += " with the certificates of " + s.caFile(e)
	}
	var all []Use
	for _, ref := range []string{e.SecretFrom, e.TokenFrom, e.SignatureFrom, e.Credential} {
		if ref != "" {
			all = append(all, Use{Endpoint: e.Name, What: s.secretPath(ref), Address: at})
		}
	}
	return all
}

// Uses are the secrets that an endpoint's settings name.
func (s *Keeper) Uses(endpoint string) ([]Use, error) {
	e := s.Workspace().Endpoints[endpoint]
	if e == nil {
		return nil, BadInput(fmt.Errorf("there is no endpoint %q", endpoint))
	}
	return s.uses(e), nil
}

// Unconfirmed are the uses of the workspace's endpoints that nobody has confirmed, by
// endpoint.
func (s *Keeper) Unconfirmed() ([]Use, error) {
	known, err := s.confirmed()
	var all []Use
	for _, name := range s.EndpointNames() {
		for _, u := range s.uses(s.Workspace().Endpoints[name]) {
			if !known[Use{What: u.What, Address: u.Address}] {
				all = append(all, u)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Workspace().Service.Notify)) {
		if u := s.notifyUse(s.Workspace().Service.Notify[name]); !known[Use{What: u.What, Address: u.Address}] {
			all = append(all, u)
		}
	}
	return all, err
}

// Confirm notes that a person lets these uses be.
func (s *Keeper) Confirm(all ...Use) error {
	known, err := s.confirmed()
	if err != nil {
		return err
	}
	return s.writeUses(slices.DeleteFunc(slices.Clone(all),
		func(u Use) bool { return known[Use{What: u.What, Address: u.Address}] }))
}

// writeUses adds lines to what was confirmed: whole ones, whoever else does so.
func (s *Keeper) writeUses(all []Use) error {
	var lines bytes.Buffer
	for _, u := range all {
		raw, err := json.Marshal(u)
		if err != nil {
			return err
		}
		lines.Write(append(raw, '\n'))
	}
	if lines.Len() == 0 {
		return nil
	}
	f, err := os.OpenFile(s.trustedPath(), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(lines.Bytes())
	return errors.Join(err, f.Close())
}

func (s *Keeper) trustedPath() string { return s.Dir.Path(state.Trusted) }

// confirmed are the uses that were confirmed, without their endpoints.
func (s *Keeper) confirmed() (map[Use]bool, error) {
	raw, err := os.ReadFile(s.trustedPath())
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	known := map[Use]bool{}
	for lines := bufio.NewScanner(bytes.NewReader(raw)); lines.Scan(); {
		var u Use
		if json.Unmarshal(lines.Bytes(), &u) != nil {
			continue // cut short: it is asked again
		}
		if !u.Dropped {
			known[u] = true
			continue
		}
		for k := range known {
			if k.What == u.What {
				delete(known, k)
			}
		}
	}
	return known, err
}

// mayUse refuses an endpoint's references that nobody has confirmed.
func (s *Keeper) mayUse(e *kind.Settings) error {
	uses := s.uses(e)
	if len(uses) == 0 {
		return nil
	}
	if s.opts.Trust {
		return s.Confirm(uses...)
	}
	known, err := s.confirmed()
	if err != nil {
		return err
	}
	for _, u := range uses {
		if !known[Use{What: u.What, Address: u.Address}] {
			return BadInput(fmt.Errorf("%w: the settings of %s use %s, which nobody here has let them yet. "+
				"Saving them in its form does, as do `lumtra endpoint confirm %s` and --trust", ErrUnconfirmed,
				e.Name, u, e.Name))
		}
	}
	return nil
}

// dropUses takes back what was confirmed of a kept credential that goes.
func (s *Keeper) dropUses(label string) error {
	return s.writeUses([]Use{{What: kind.KeptCredential + label, Dropped: true}})
}
