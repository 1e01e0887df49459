package blob

import (
	"context"
	"errors"
	"regexp"
	"strings"

	"lumtra/core/place"
)

// Buckets lists the account's containers (List Containers).
func (s *Store) Buckets(ctx context.Context) ([]place.Bucket, error) {
	if s.cfg.Bucket != "" {
		return []place.Bucket{{Name: s.cfg.Bucket}}, nil
	}
	var found []place.Bucket
	for pages := s.svc.NewListContainersPager(nil); pages.More(); {
		page, err := pages.NextPage(ctx)
		if err != nil {
			return found, failure(ctx, s.cfg.Name, "list containers", "", err)
		}
		for _, c := range page.ContainerItems {
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
			err = place.NewError(s.cfg.Name, "remove container", name, place.Exists, errors.New("it is not empty"))
		}
		return err
	}
	_, err = s.svc.DeleteContainer(ctx, name, nil)
	return failure(ctx, s.cfg.Name, "remove container", name, err)
}

var containerName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,61}[a-z0-9]$`)

// CheckBucketName holds a name against "Naming and referencing containers".
func (s *Store) CheckBucketName(name string) error {
	if containerName.MatchString(name) && !strings.Contains(name, "--") || name == "$root" || name == "$web" {
		return nil
	}
	return place.NewError(s.cfg.Name, "make container", name, place.BadName,
		errors.New("a container's name has 3 to 63 lower-case letters, digits and single hyphens, with a letter or digit at both ends"))
}
