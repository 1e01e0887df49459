package service

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"lumtra/core/job"
	"lumtra/core/place/blob"
	"lumtra/core/secret"
)

// PassphraseFrom names the environment variable that says where the passphrase
// of the kept credentials lies ("env:NAME" or "file:PATH"), so that Lumtra can
// work with nobody there.
const PassphraseFrom = "LUMTRA_PASSPHRASE_FROM"

// unlockUnattended opens the kept credentials where the environment says how.
func (s *Service) unlockUnattended() error {
	ref := os.Getenv(PassphraseFrom)
	if ref == "" {
		return nil
	}
	passphrase, err := secret.Resolve(ref)
	if err == nil {
		err = s.secrets.Unlock(passphrase)
	}
	if err != nil {
		return badInput(fmt.Errorf("%s: %w", PassphraseFrom, err))
	}
	return nil
}

// KeptCredential is what may be shown of a kept credential.
type KeptCredential struct {
	secret.Facts
	// UsedBy are the endpoints that sign with it.
	UsedBy []string
}

// Credentials lists the kept ones, by label.
func (s *Service) Credentials() ([]KeptCredential, error) {
	all, err := s.secrets.List()
	var kept []KeptCredential
	for _, f := range all {
		kept = append(kept, KeptCredential{f, s.usersOf(f.Label)})
	}
	return kept, err
}

func (s *Service) usersOf(label string) []string {
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
func (s *Service) KeepCredential(c secret.Credential) error {
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
			return badInput(errors.New("a signed access has a signature (sig=…): give all of it"))
		}
		c.Secret, c.Until = secret.New(query), blob.ReadAccess(query).Until
	}
	if err := s.secrets.Keep(c); err != nil {
		return badInput(err)
	}
	s.log.Info("credential kept", "label", c.Label, "kind", c.Kind, "fingerprint", c.Secret.Fingerprint())
	s.forget(s.usersOf(c.Label)...)
	return nil
}

// RemoveCredential drops a credential that no endpoint uses.
func (s *Service) RemoveCredential(label string) error {
	if users := s.usersOf(label); len(users) > 0 {
		return badInput(fmt.Errorf("%s still signs with it", strings.Join(users, ", ")))
	}
	if err := s.secrets.Remove(label); err != nil {
		return badInput(err)
	}
	return s.dropUses(label)
}

// CredentialsLocked tells whether a passphrase is needed, and how the key is kept.
func (s *Service) CredentialsLocked() (how secret.Lock, locked bool, err error) {
	return s.secrets.HowLocked()
}

// Unlock opens the kept credentials for the life of the service.
func (s *Service) Unlock(passphrase secret.Text) error {
	if err := s.secrets.Unlock(passphrase); err != nil {
		return badInput(err)
	}
	return nil
}

// Relock keeps the credentials' key in another way; see [secret.Store.Relock].
func (s *Service) Relock(how secret.Lock, passphrase secret.Text, at string) (left string, err error) {
	if left, err = s.secrets.Relock(how, passphrase, at); err != nil {
		err = badInput(err)
	}
	return left, err
}

// Pasted is what was made of text that somebody pasted to name an endpoint.
type Pasted struct {
	Endpoint job.Endpoint
	// Credential holds the secret part, if there was one.
	Credential *secret.Credential
	// Access is what a signed address says of itself.
	Access *Access
	// plain is the address, where it is of a store and holds no secret.
	plain string
}

// As is what was pasted, taken apart as an address of this kind of store: which kind
// it is cannot be seen from every address. "" leaves it as it was guessed.
func (p Pasted) As(kind string) Pasted {
	if kind != "" && kind != p.Endpoint.Kind && p.plain != "" {
		p.Endpoint = storeAddress(p.plain, kind)
	}
	return p
}

// Access is what a signed access says of itself; see [blob.Access].
type Access = blob.Access

// TakeApart makes an endpoint of what was pasted: a signed address, a store's
// address, a list of web addresses, or a folder. The error never shows the text.
func TakeApart(text string) (Pasted, error) {
	text = strings.TrimSpace(text)
	var p Pasted
	switch lower := strings.ToLower(text); {
	case text == "":
		return p, badInput(errors.New("paste an address, or type the path of a folder"))
	case strings.Contains(text, "sig=") && strings.Contains(text, "://"):
		base, query, access, err := blob.ParseAccess(text)
		if err != nil {
			return p, badInput(err)
		}
		p.Endpoint = job.Endpoint{Kind: job.KindBlob, Address: base, Bucket: access.Bucket}
		p.Credential = &secret.Credential{Facts: secret.Facts{Kind: secret.SignedAccess, Until: access.Until}, Secret: secret.New(query)}
		p.Access = &access
	case strings.Contains(text, "://") && strings.Contains(text, "@"):
		return p, badInput(errors.New("no credentials in the address: they are asked for, and kept apart"))
	case strings.HasPrefix(lower, "http://"), strings.HasPrefix(lower, "https://"):
		p.Endpoint, p.plain = storeAddress(text, ""), text
	case strings.HasSuffix(lower, ".csv"), strings.HasSuffix(lower, ".txt"):
		p.Endpoint = job.Endpoint{Kind: job.KindList, Path: text}
	default:
		p.Endpoint = job.Endpoint{Kind: job.KindFolder, Path: text}
	}
	return p, nil
}

// storeAddress guesses what an address without a signature speaks: the blob API
// where the host says so, else the S3 API, with the bucket that the path names.
func storeAddress(text, kind string) job.Endpoint {
	scheme, rest, _ := strings.Cut(text, "://")
	host, path, _ := strings.Cut(rest, "/")
	if u, err := url.Parse(text); err == nil && (kind == job.KindBlob || kind == "" && strings.Contains(host, ".blob.")) {
		e := job.Endpoint{Kind: job.KindBlob}
		e.Address, e.Account, e.Bucket, _ = blob.Split(u)
		return e
	}
	e := job.Endpoint{Kind: job.KindS3, Address: strings.ToLower(scheme) + "://" + host}
	e.Bucket, _, _ = strings.Cut(path, "/")
	return e
}
