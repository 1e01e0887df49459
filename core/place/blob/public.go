package blob

import (
	"context"
	"fmt"
	"strings"

	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"

	"lumtra/core/place"
)

var (
	_ place.BucketTagger = (*Store)(nil)
	_ place.BucketAccess = (*Store)(nil)
)

// BucketTags reads a container's metadata, which is what containers have for tags (Get
// Container Properties).
func (s *Store) BucketTags(ctx context.Context, bucket string) (map[string]string, error) {
	out, err := s.svc.NewContainerClient(bucket).GetProperties(ctx, nil)
	if err != nil {
		return nil, failure(ctx, s.cfg.Name, "read the container's metadata", bucket, err)
	}
	tags := map[string]string{}
	for name, value := range out.Metadata { // headers, which come in any case
		tags[strings.ToLower(name)] = deref(value)
	}
	return tags, nil
}

// SetBucketTags replaces a container's metadata (Set Container Metadata).
func (s *Store) SetBucketTags(ctx context.Context, bucket string, tags map[string]string) error {
	set := map[string]*string{}
	for name, value := range tags {
		set[name] = &value
	}
	_, err := s.svc.NewContainerClient(bucket).SetMetadata(ctx, &container.SetMetadataOptions{Metadata: set})
	return failure(ctx, s.cfg.Name, "set the container's metadata", bucket, err)
}

// publics are the degrees in the API's words.
var publics = map[container.PublicAccessType]place.Public{
	container.PublicAccessTypeBlob: place.PublicRead, container.PublicAccessTypeContainer: place.PublicList}

// Access tells who may reach a container (Get Container ACL). What roles and signatures
// grant is not the container's to tell.
func (s *Store) Access(ctx context.Context, bucket string) (place.Access, error) {
	out, err := s.svc.NewContainerClient(bucket).GetAccessPolicy(ctx, nil)
	if err != nil {
		return place.Access{}, failure(ctx, s.cfg.Name, "read who may reach the container", bucket, err)
	}
	a := place.Access{Public: place.PublicNo}
	if out.BlobPublicAccess != nil {
		a.Widen(publics[*out.BlobPublicAccess])
	}
	for _, p := range out.SignedIdentifiers {
		if p == nil || p.AccessPolicy == nil {
			continue
		}
		words := fmt.Sprintf("policy %q lets signatures %s", deref(p.ID), deref(p.AccessPolicy.Permission))
		if until := p.AccessPolicy.Expiry; until != nil {
			words += " until " + until.Local().Format("2006-01-02 15:04 MST")
		}
		a.Words = append(a.Words, words)
	}
	a.Words = append(a.Words, "roles, keys and signatures of the account reach it as the account says")
	return a, nil
}

// SetPublic changes what anybody may do (Set Container ACL); policies stay.
func (s *Store) SetPublic(ctx context.Context, bucket string, public place.Public) error {
	c := s.svc.NewContainerClient(bucket)
	const op = "change who may reach the container"
	was, err := c.GetAccessPolicy(ctx, nil)
	if err != nil {
		return failure(ctx, s.cfg.Name, op, bucket, err)
	}
	opts := &container.SetAccessPolicyOptions{ContainerACL: was.SignedIdentifiers}
	for kind, is := range publics {
		if is == public {
			opts.Access = &kind
		}
	}
	_, err = c.SetAccessPolicy(ctx, opts)
	return failure(ctx, s.cfg.Name, op, bucket, err)
}
