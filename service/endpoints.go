package service

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

	"github.com/aws/aws-sdk-go-v2/aws"
	"golang.org/x/sys/unix"

	"lumtra/core/job"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/folder"
	"lumtra/core/place/s3"
	"lumtra/core/place/weblist"
	"lumtra/core/place/wire"
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

func sorted(names []string) []string {
	slices.Sort(names)
	return names
}

// below makes a path in a file relative to the workspace.
func (s *Service) below(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(s.opts.Workspace, path)
}

// login is what an endpoint signs with.
type login struct {
	name          string // access key or account
	secret, token secret.Text
	access        secret.Text // a signed access
	shared        aws.CredentialsProvider
	region        string // that goes with shared ones
}

// login finds what an endpoint signs with. given, when not nil, is used in
// place of what its settings say.
func (s *Service) login(ctx context.Context, e *job.Endpoint, given *secret.Credential) (l login, err error) {
	bad := func(err error) (login, error) { return l, place.NewError(e.Name, "open", "", place.BadLogin, err) }
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
	profile, named := strings.CutPrefix(e.Credential, job.ProfileCredential)
	switch {
	case given != nil && given.Kind == secret.SignedAccess:
		l.access = given.Secret
	case given != nil:
		l.name, l.secret, l.token = given.Name, given.Secret, given.Token
	case named || e.Credential == job.ChainCredential:
		if !named {
			profile = ""
		}
		if l.shared, l.region, err = s3.SharedCredentials(ctx, profile); err != nil {
			return bad(err)
		}
	default:
		l.name = e.AccessKey + e.Account // one kind has the one, one the other
		for _, from := range []struct {
			ref  string
			into *secret.Text
		}{{e.SecretFrom, &l.secret}, {e.TokenFrom, &l.token}, {e.SignatureFrom, &l.access}} {
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
func wellFormed(e *job.Endpoint, l *login) error {
	what := ""
	if text := l.access.Reveal(); text != "" {
		values, err := url.ParseQuery(strings.TrimPrefix(text, "?"))
		if err != nil || values.Get("sig") == "" || strings.ContainsFunc(text, func(r rune) bool { return r <= ' ' || r > '~' }) {
			what = "signature-from does not lead to a signature (…&sig=…)"
		}
	}
	if strings.ContainsFunc(l.token.Reveal(), notInTokens) {
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
	return !('a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' || strings.ContainsRune("+/=_-.%~", r))
}

// open opens an endpoint by its settings.
func (s *Service) open(ctx context.Context, e *job.Endpoint, given *secret.Credential) (*opened, error) {
	switch e.Kind {
	case job.KindFolder:
		f, err := folder.OpenEndpoint(e.Name, s.below(e.Path), folder.Options{Sync: e.Sync})
		if err != nil {
			return nil, err
		}
		return &opened{Endpoint: f}, nil
	case job.KindList:
		l, err := weblist.OpenEndpoint(e.Name, s.below(e.Path), wire.Options{CAFile: s.caFile(e), Proxy: e.Proxy})
		if err != nil {
			return nil, err
		}
		return &opened{Endpoint: l}, nil
	}
	l, err := s.login(ctx, e, given)
	if err != nil {
		return nil, err
	}
	address := e.Address
	var server *standin.Server
	if e.StandIn != "" {
		if l.name == "" && l.secret.Empty() && l.access.Empty() {
			if l, err = s.standInKey(e); err != nil {
				return nil, place.NewError(e.Name, "open", "", place.BadLogin, err)
			}
		}
		keys := standin.Key{Access: l.name, Secret: l.secret.Reveal(), Token: l.token.Reveal()}
		if server, address, err = s.startStandIn(e, keys); err != nil {
			return nil, place.NewError(e.Name, "open", "", place.Unreachable, err)
		}
	}
	known := s.knownOf(e)
	end, err := s.store(e, l, address, known)
	if err != nil {
		if server != nil {
			server.Close()
		}
		return nil, err
	}
	return &opened{end, server, known}, nil
}

// store makes the endpoint of a store at an address.
func (s *Service) store(e *job.Endpoint, l login, address string, known *place.Known) (place.Endpoint, error) {
	if e.Kind == job.KindBlob {
		if e.StandIn != "" {
			address += "/" + l.name
		}
		return blob.NewStore(blob.Config{Known: known, Name: e.Name, Address: address, Account: l.name, Key: l.secret, SAS: l.access, Bucket: e.Bucket, CAFile: s.caFile(e), Proxy: e.Proxy})
	}
	return s3.NewStore(s3.Config{Known: known, Name: e.Name, Address: address, Region: cmp.Or(e.Region, l.region), VirtualHost: e.Addressing == "host", Bucket: e.Bucket,
		AccessKey: l.name, Secret: l.secret, Token: l.token, Credentials: l.shared, SignBodies: e.SignBodies, CAFile: s.caFile(e), Proxy: e.Proxy})
}

func (s *Service) caFile(e *job.Endpoint) string {
	if e.CAFile == "" {
		return ""
	}
	return s.below(e.CAFile)
}

// secretPath lets "file:" references be relative to the workspace.
func (s *Service) secretPath(ref string) string {
	if path, ok := cutFile(ref); ok {
		return "file:" + s.below(path)
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
func (s *Service) standInKey(e *job.Endpoint) (l login, err error) {
	path := filepath.Join(s.opts.State, "stand-ins", e.Name+".key")
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return l, err
	}
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) { // made whole beside it, whoever comes first
		made := path + "." + rand.Text()
		err = os.WriteFile(made, []byte(base64.StdEncoding.EncodeToString([]byte(rand.Text()))), 0o600)
		if err == nil {
			if err = unix.Renameat2(unix.AT_FDCWD, made, unix.AT_FDCWD, path, unix.RENAME_NOREPLACE); errors.Is(err, os.ErrExist) {
				err = os.Remove(made)
			}
		}
		if err == nil {
			key, err = os.ReadFile(path)
		}
	}
	l.name, l.secret = cmp.Or(e.AccessKey, e.Account, "practice"), secret.New(string(key))
	return l, err
}

// startStandIn starts the endpoint's stand-in on loopback, or finds the one
// that another process of this workspace has running.
func (s *Service) startStandIn(e *job.Endpoint, key standin.Key) (*standin.Server, string, error) {
	dir := s.below(e.StandIn)
	server, err := standin.New(standin.Config{Dir: dir, Blob: e.Kind == job.KindBlob, Keys: []standin.Key{key}})
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

// EndpointNames lists the workspace's endpoints.
func (s *Service) EndpointNames() []string {
	var names []string
	for n := range s.Workspace().Endpoints {
		names = append(names, n)
	}
	return sorted(names)
}
