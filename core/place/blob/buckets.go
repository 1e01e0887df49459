package blob

import (
	"context"
	"errors"
	"regexp"
	"strings"
	"time"

	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// Buckets lists the account's containers (List Containers).
func (s *Store) Buckets(ctx context.Context) ([]place.Bucket, error) {
	if s.cfg.Bucket != "" {
		return []place.Bucket{{Name: s.cfg.Bucket}}, nil
	}
	var found []place.Bucket
	var round wire.Round
	for pages := s.svc.NewListContainersPager(nil); pages.More(); {
		page, err := pages.NextPage(ctx)
		if err != nil {
			return found, failure(ctx, s.cfg.Name, "list containers", "", err)
		}
		if next := deref(page.NextMarker); next != "" && round.Again(next) {
			return found, place.NewError(s.cfg.Name, "list containers", "", place.ServerFault,
				errors.New("the service gives the same page again and again"))
		}
		for _, c := range page.ContainerItems {
			if c == nil {
				continue
			}
			b := place.Bucket{Name: deref(c.Name)}
			if c.Properties != nil {
				b.Made = deref(c.Properties.LastModified)
			}
			found = append(found, b)
		}
	}
	return found, nil
}

// MakeBucket makes a container (Create Container).
func (s *Store) MakeBucket(ctx context.Context, name string) error {
	_, err := s.svc.CreateContainer(ctx, name, nil)
	return failure(ctx, s.cfg.Name, "make container", name, err)
}

// RemoveBucket removes a container and all that is in it, so it refuses one
// that is not empty (Delete Container).
func (s *Store) RemoveBucket(ctx context.Context, name string) error {
	p, err := s.Open(name)
	if err != nil {
		return err
	}
	for _, err := range p.List(ctx, "", place.ListOptions{}) {
		if err == nil {
			err = place.NewError(s.cfg.Name, "delete container", name, place.Exists, errors.New("it is not empty"))
		}
		return err
	}
	_, err = s.svc.DeleteContainer(ctx, name, nil)
	return failure(ctx, s.cfg.Name, "delete container", name, err)
}

var containerName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,61}[a-z0-9]$`)

// CheckBucketName holds a name against "Naming and referencing containers".
func (s *Store) CheckBucketName(name string) error {
	if containerName.MatchString(name) && !strings.Contains(name, "--") || name == "$root" || name == "$web" {
		return nil
	}
	return place.NewError(s.cfg.Name, "make container", name, place.BadName,
		errors.New("a container's name has 3 to 63 lower-case letters, digits and single hyphens, with a letter or "+
			"digit at both ends"))
}

// Now asks the service for its time, without signing (RFC 9110, section 6.6.1).
func (s *Store) Now(ctx context.Context) (time.Time, error) {
	return wire.Now(ctx, s.http, s.cfg.Name, s.cfg.Address)
}

// stepPermissions are the letters of "Create a service SAS", and the roles that
// have them, by step of a test.
var stepPermissions = map[string]string{
	"list buckets":    "to list containers (l on the service; role Storage Blob Data Reader)",
	"list":            "to list (l; role Storage Blob Data Reader)",
	"read":            "to read (r; role Storage Blob Data Reader)",
	"write":           "to write and create (w, c; role Storage Blob Data Contributor)",
	"delete":          "to delete (d; role Storage Blob Data Contributor)",
	"tags":            "for tags (t; role Storage Blob Data Owner)",
	"parts":           "to write (w; role Storage Blob Data Contributor)",
	"metadata":        "to write (w; role Storage Blob Data Contributor)",
	"copy inside":     "to read and write (r, w; role Storage Blob Data Contributor)",
	"rate":            "to write (w; role Storage Blob Data Contributor)",
	"write if absent": "to write (w; role Storage Blob Data Contributor)",
}

// Permission is what the service calls the permission for a step of a test.
func (s *Store) Permission(step string) string { return stepPermissions[step] }
