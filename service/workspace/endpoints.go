package workspace

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
	"lumtra/core/secret"
	"lumtra/standin"
)

// opened is an endpoint in use, with the stand-in started for it, if any.
type opened struct {
	place.Endpoint
	standIn *standin.Server
	known   *place.Known // of a store; nil for what is none
}

func (o *opened) close() error {
	err := o.Endpoint.Close()
	if o.standIn != nil {
		err = errors.Join(err, o.standIn.Close())
	}
	return err
}

// Below makes a path in a file relative to the workspace.
func (s *Keeper) Below(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(s.opts.Workspace, path)
}

// login finds what an endpoint signs with. given, when not nil, is used in
// place of what its settings say.
func (s *Keeper) login(e *kind.Settings, given *secret.Credential) (l kind.Login, err error) {
	bad := func(err error) (kind.Login, error) { return l, place.NewError(e.Name, "open", "", place.BadLogin, err) }
	if given == nil {
		if err := s.mayUse(e); err != nil {
			return l, err
		}
	}
	if label := e.Kept(); label != "" && given == nil {
		c, err := s.secrets.Get(label)
		if err != nil {
			return bad(err)
		}
		given = &c
	}
	profile, named := strings.CutPrefix(e.Credential, kind.ProfileCredential)
	switch {
	case given != nil && given.Kind == secret.SignedAccess:
		l.Access = given.Secret
	case given != nil:
		l.Name, l.Secret, l.Token = given.Name, given.Secret, given.Token
	case named || e.Credential == kind.ChainCredential:
		l.Shared, l.Profile = true, profile
		if !named {
			l.Profile = ""
		}
	default:
		l.Name = *kinds.Of(e).Signs.Name(e)
		for _, from := range []struct {
			ref  string
			into *secret.Text
		}{{e.SecretFrom, &l.Secret}, {e.TokenFrom, &l.Token}, {e.SignatureFrom, &l.Access}} {
			if from.ref == "" {
				continue
			}
			if *from.into, err = secret.Resolve(s.secretPath(from.ref)); err != nil {
				return bad(err)
			}
		}
	}
	return l, wellFormed(e, &l)
}

// wellFormed refuses what goes to a store as it is and has not the form of it: a
// workspace may come from somebody else, and name any file of this machine.
func wellFormed(e *kind.Settings, l *kind.Login) error {
	what := ""
	if text := l.Access.Reveal(); text != "" {
		values, err := url.ParseQuery(strings.TrimPrefix(text, "?"))
		if err != nil || values.Get("sig") == "" ||
			strings.ContainsFunc(text, func(r rune) bool { return r <= ' ' || r > '~' }) {
			what = "signature-from does not lead to a signature (…&sig=…)"
		}
	}
	if strings.ContainsFunc(l.Token.Reveal(), notInTokens) {
		what = "token-from does not lead to a token: tokens are letters, digits and + / = _ - . % ~"
	}
	if what == "" {
		return nil
	}
	return place.NewError(e.Name, "open", "", place.BadLogin, errors.New(what))
}

// notInTokens are the characters that no session token has: they are base64, of either
// alphabet, or several of these with dots between them.
func notInTokens(r rune) bool {
	return !('a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' ||
		strings.ContainsRune("+/=_-.%~", r))
}

// open opens an endpoint by its settings.
func (s *Keeper) open(ctx context.Context, e *kind.Settings, given *secret.Credential) (*opened, error) {
	k := kinds.Of(e)
	m := kind.Means{Path: s.Below(e.Path), CAFile: s.caFile(e)}
	o := &opened{}
	if k.Signs != nil {
		var err error
		if m.Login, err = s.login(e, given); err != nil {
			return nil, err
		}
		o.known = s.knownOf(e)
		m.Known = o.known
	}
	if e.StandIn != "" {
		var err error
		if m.Login.Empty() {
			if m.Login, err = s.standInKey(e); err != nil {
				return nil, place.NewError(e.Name, "open", "", place.BadLogin, err)
			}
		}
		key := standin.Key{Access: m.Login.Name, Secret: m.Login.Secret.Reveal(), Token: m.Login.Token.Reveal()}
		if o.standIn, m.Address, err = s.startStandIn(e, key); err != nil {
			return nil, place.NewError(e.Name, "open", "", place.Unreachable, err)
		}
	}
	var err error
	if o.Endpoint, err = k.Open(ctx, e, m); err != nil {
		if o.standIn != nil {
			err = errors.Join(err, o.standIn.Close())
		}
		return nil, err
	}
	return o, nil
}

func (s *Keeper) caFile(e *kind.Settings) string {
	if e.CAFile == "" {
		return ""
	}
	return s.Below(e.CAFile)
}

// secretPath lets "file:" references be relative to the workspace.
func (s *Keeper) secretPath(ref string) string {
	if path, ok := cutFile(ref); ok {
		return "file:" + s.Below(path)
	}
	return ref
}

func cutFile(ref string) (string, bool) {
	const prefix = "file:"
	if len(ref) > len(prefix) && ref[:len(prefix)] == prefix {
		return ref[len(prefix):], true
	}
	return "", false
}

// standInKey is what a stand-in asks for whose settings name no key: a random one, kept
// in the state folder, so that no other program on this machine writes to it.
func (s *Keeper) standInKey(e *kind.Settings) (l kind.Login, err error) {
	path := s.Dir.Path("stand-ins", e.Name+".key")
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return l, err
	}
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) { // made whole beside it, whoever comes first
		made := path + "." + rand.Text()
		err = os.WriteFile(made, []byte(base64.StdEncoding.EncodeToString([]byte(rand.Text()))), 0o600)
		if err == nil {
			if err = unix.Renameat2(unix.AT_FDCWD, made, unix.AT_FDCWD, path, unix.RENAME_NOREPLACE); errors.Is(err,
				os.ErrExist) {
				err = os.Remove(made)
			}
		}
		if err == nil {
			key, err = os.ReadFile(path)
		}
	}
	l.Name, l.Secret = cmp.Or(*kinds.Of(e).Signs.Name(e), "practice"), secret.New(string(key))
	return l, err
}

// startStandIn starts the endpoint's stand-in on loopback, or finds the one
// that another process of this workspace has running.
func (s *Keeper) startStandIn(e *kind.Settings, key standin.Key) (*standin.Server, string, error) {
	dir := s.Below(e.StandIn)
	server, err := standin.New(standin.Config{Dir: dir, API: kinds.Of(e).StandIn, Keys: []standin.Key{key}})
	if errors.Is(err, standin.ErrInUse) {
		address, err := standin.Address(dir)
		if err != nil {
			return nil, "", fmt.Errorf("the stand-in in %s is in use, but does not say where: %w", dir, err)
		}
		return nil, address, nil
	}
	if err != nil {
		return nil, "", err
	}
	server.SetSpeed(e.SpeedBytes)
	if e.Wait > 0 {
		server.SetFaults(standin.Fault{Do: "latency", Wait: e.Wait})
	}
	address, err := server.Start("127.0.0.1:0")
	if err != nil {
		server.Close()
		return nil, "", err
	}
	return server, address, nil
}

// EndpointNames lists the endpoints that the workspace has settings of.
func (s *Keeper) EndpointNames() []string {
	var names []string
	for n := range s.Workspace().Endpoints {
		if n != kind.Local {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	return names
}

// OpenStandIns starts the workspace's stand-ins here, so that they live as long
// as the service and not as long as a window.
func (s *Keeper) OpenStandIns() {
	for name, e := range s.Workspace().Endpoints {
		if e.StandIn == "" {
			continue
		}
		if _, err := s.Endpoint(name); err != nil {
			s.Log.Warn("a stand-in could not be started", "endpoint", name, "error", err)
		}
	}
}
