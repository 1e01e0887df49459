package service

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/folder"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/standin"
)

// opened is an endpoint in use, with the stand-in started for it, if any.
type opened struct {
	place.Endpoint
	standIn *standin.Server
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

// open opens an endpoint by its settings.
func (s *Service) open(e *job.Endpoint) (*opened, error) {
	if e.Kind == job.KindFolder {
		f, err := folder.OpenEndpoint(e.Name, s.below(e.Path), folder.Options{Sync: e.Sync})
		if err != nil {
			return nil, err
		}
		return &opened{Endpoint: f}, nil
	}
	if e.Kind == job.KindBlob {
		return s.openBlob(e)
	}
	cfg := s3.Config{Name: e.Name, Address: e.Address, Region: e.Region, VirtualHost: e.Addressing == "host",
		AccessKey: e.AccessKey, SignBodies: e.SignBodies, CAFile: s.caFile(e)}
	var err error
	if cfg.Secret, err = s.resolve(e, e.SecretFrom); err != nil {
		return nil, err
	}
	if cfg.Token, err = s.resolve(e, e.TokenFrom); err != nil {
		return nil, err
	}
	var server *standin.Server
	if e.StandIn != "" {
		keys := standin.Key{Access: cfg.AccessKey, Secret: cfg.Secret.Reveal(), Token: cfg.Token.Reveal()}
		if server, cfg.Address, err = s.startStandIn(e, keys); err != nil {
			return nil, place.NewError(e.Name, "open", "", place.Unreachable, err)
		}
	}
	store, err := s3.NewStore(cfg)
	if err != nil {
		if server != nil {
			server.Close()
		}
		return nil, err
	}
	return &opened{store, server}, nil
}

func (s *Service) caFile(e *job.Endpoint) string {
	if e.CAFile == "" {
		return ""
	}
	return s.below(e.CAFile)
}

// openBlob opens a store that speaks the Azure Blob API.
func (s *Service) openBlob(e *job.Endpoint) (*opened, error) {
	cfg := blob.Config{Name: e.Name, Address: e.Address, Account: e.Account, CAFile: s.caFile(e)}
	var err error
	if cfg.Key, err = s.resolve(e, e.SecretFrom); err != nil {
		return nil, err
	}
	if cfg.SAS, err = s.resolve(e, e.SignatureFrom); err != nil {
		return nil, err
	}
	var server *standin.Server
	if e.StandIn != "" {
		if server, cfg.Address, err = s.startStandIn(e, standin.Key{Access: e.Account, Secret: cfg.Key.Reveal()}); err != nil {
			return nil, place.NewError(e.Name, "open", "", place.Unreachable, err)
		}
		cfg.Address += "/" + e.Account
	}
	store, err := blob.NewStore(cfg)
	if err != nil {
		if server != nil {
			server.Close()
		}
		return nil, err
	}
	return &opened{store, server}, nil
}

// resolve reads the secret a setting refers to; "" is none.
func (s *Service) resolve(e *job.Endpoint, ref string) (secret.Text, error) {
	if ref == "" {
		return secret.Text{}, nil
	}
	text, err := secret.Resolve(s.secretPath(ref))
	if err != nil {
		return text, place.NewError(e.Name, "open", "", place.BadLogin, err)
	}
	return text, nil
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

// startStandIn starts the endpoint's stand-in on loopback, or finds the one
// that another process of this workspace has running.
func (s *Service) startStandIn(e *job.Endpoint, key standin.Key) (*standin.Server, string, error) {
	dir := s.below(e.StandIn)
	server, err := standin.New(standin.Config{Dir: dir, Blob: e.Kind == job.KindBlob, Public: key.Access == "", Keys: []standin.Key{key}})
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
	for n := range s.workspace.Endpoints {
		names = append(names, n)
	}
	return sorted(names)
}

// Page is some of what lies at one level of a place.
type Page struct {
	Entries []object.Entry
	// Next continues behind the last entry; "" at the end.
	Next string
}

// pageSize is how many entries a page has at most.
const pageSize = 500

// Browse lists one level of "endpoint/path", behind the entry after.
func (s *Service) Browse(ctx context.Context, at, after string) (Page, error) {
	name, path := job.SplitPlace(at)
	end, err := s.endpoint(name)
	if err != nil {
		return Page{}, err
	}
	if b, ok := end.(place.Buckets); ok && path == "" {
		buckets, err := b.Buckets(ctx)
		var page Page
		for _, x := range buckets {
			page.Entries = append(page.Entries, object.Entry{Key: x.Name + "/", Kind: object.Prefix, Modified: x.Made})
		}
		return page, err
	}
	p, err := end.Open(path)
	if err != nil {
		return Page{}, err
	}
	var page Page
	for e, err := range p.List(ctx, "", place.ListOptions{Shallow: true, After: after}) {
		if err != nil {
			return page, err
		}
		if len(page.Entries) == pageSize {
			page.Next = page.Entries[pageSize-1].Key
			break
		}
		page.Entries = append(page.Entries, e)
	}
	return page, nil
}

// Stat describes the object "endpoint/path".
func (s *Service) Stat(ctx context.Context, at string) (object.Entry, error) {
	name, path := job.SplitPlace(at)
	end, err := s.endpoint(name)
	if err != nil {
		return object.Entry{}, err
	}
	dir := object.Parent(path)
	p, err := end.Open(dir)
	if err != nil {
		return object.Entry{}, err
	}
	return p.Stat(ctx, object.Ref{Key: path[len(dir):]})
}

// MakeBucket makes a bucket at an endpoint that has buckets.
func (s *Service) MakeBucket(ctx context.Context, endpoint, bucket string) error {
	end, err := s.endpoint(endpoint)
	if err != nil {
		return err
	}
	b, ok := end.(place.Buckets)
	if !ok {
		return badInput(fmt.Errorf("%s has no buckets", endpoint))
	}
	return b.MakeBucket(ctx, bucket)
}
