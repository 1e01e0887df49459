package workspace

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"lumtra/core/place/kinds"
	"lumtra/core/secret"
)

// PassphraseFrom names the environment variable that says where the passphrase
// of the kept credentials lies ("env:NAME" or "file:PATH"), so that Lumtra can
// work with nobody there.
const PassphraseFrom = "LUMTRA_PASSPHRASE_FROM"

// unlockUnattended opens the kept credentials where the environment says how.
func (s *Keeper) unlockUnattended() error {
	ref := os.Getenv(PassphraseFrom)
	if ref == "" {
		return nil
	}
	passphrase, err := secret.Resolve(ref)
	if err == nil {
		err = s.secrets.Unlock(passphrase)
	}
	if err != nil {
		return BadInput(fmt.Errorf("%s: %w", PassphraseFrom, err))
	}
	return nil
}

// KeptCredential is what may be shown of a kept credential.
type KeptCredential struct {
	secret.Kept
	// UsedBy are the endpoints that sign with it.
	UsedBy []string
}

// Credentials lists the kept ones, by label.
func (s *Keeper) Credentials() ([]KeptCredential, error) {
	all, err := s.secrets.List()
	var kept []KeptCredential
	for _, f := range all {
		kept = append(kept, KeptCredential{f, s.usersOf(f.Label)})
	}
	return kept, err
}

func (s *Keeper) usersOf(label string) []string {
	var users []string
	for _, name := range s.EndpointNames() {
		if s.Workspace().Endpoints[name].Kept() == label {
			users = append(users, name)
		}
	}
	return users
}

// KeepCredential keeps a new credential, or another secret under a known label:
// every endpoint that uses it signs with the new one from its next request. An
// empty kind, name or token of a known label stays what it was.
func (s *Keeper) KeepCredential(c secret.Credential) error {
	old, err := s.secrets.List()
	if err != nil {
		return err
	}
	for _, f := range old {
		if f.Label == c.Label {
			if c.Kind == "" {
				c.Kind = f.Kind
			}
			if c.Name == "" {
				c.Name = f.Name
			}
		}
	}
	if c.Kind == secret.SignedAccess {
		query := strings.TrimPrefix(c.Secret.Reveal(), "?")
		if !strings.Contains(query, "sig=") {
			return BadInput(errors.New("a signed access has a signature (sig=…): give all of it"))
		}
		c.Secret = secret.New(query)
		c.Until = kinds.Until(c)
	}
	if err := s.secrets.Keep(c); err != nil {
		return BadInput(err)
	}
	s.Log.Info("credential kept", "label", c.Label, "kind", c.Kind, "fingerprint", c.Secret.Fingerprint())
	s.Forget(s.usersOf(c.Label)...)
	return nil
}

// RemoveCredential drops a credential that no endpoint uses.
func (s *Keeper) RemoveCredential(label string) error {
	if users := s.usersOf(label); len(users) > 0 {
		return BadInput(fmt.Errorf("%s still signs with it", strings.Join(users, ", ")))
	}
	if err := s.secrets.Remove(label); err != nil {
		return BadInput(err)
	}
	return s.dropUses(label)
}

// CredentialsLocked tells whether a passphrase is needed, and how the key is kept.
func (s *Keeper) CredentialsLocked() (how secret.Lock, locked bool, err error) {
	return s.secrets.HowLocked()
}

// Unlock opens the kept credentials for the life of the service.
func (s *Keeper) Unlock(passphrase secret.Text) error {
	if err := s.secrets.Unlock(passphrase); err != nil {
		return BadInput(err)
	}
	return nil
}

// Relock keeps the credentials' key in another way; see [secret.Store.Relock].
func (s *Keeper) Relock(how secret.Lock, passphrase secret.Text, at string) (left string, err error) {
	if left, err = s.secrets.Relock(how, passphrase, at); err != nil {
		err = BadInput(err)
	}
	return left, err
}
