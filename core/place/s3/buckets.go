package s3

import (
	"context"
	"errors"
	"net"
	"regexp"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"

	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// Buckets lists the account's buckets (ListBuckets).
func (s *Store) Buckets(ctx context.Context) ([]place.Bucket, error) {
	if s.cfg.Bucket != "" {
		return []place.Bucket{{Name: s.cfg.Bucket}}, nil
	}
	var found []place.Bucket
	var round wire.Round
	pages := s3.NewListBucketsPaginator(s.sdk, &s3.ListBucketsInput{})
	for pages.HasMorePages() {
		out, err := pages.NextPage(ctx)
		if err != nil {
			return found, sdkError(ctx, s.cfg.Name, "list buckets", "", err)
		}
		if next := aws.ToString(out.ContinuationToken); next != "" && round.Again(next) {
			return found, place.NewError(s.cfg.Name, "list buckets", "", place.ServerFault,
				errors.New("the store gives the same page again and again"))
		}
		for _, b := range out.Buckets {
			found = append(found, place.Bucket{Name: aws.ToString(b.Name), Made: aws.ToTime(b.CreationDate)})
		}
	}
	return found, nil
}

// MakeBucket makes a bucket in the endpoint's region (CreateBucket). One that
// is there already is [place.Exists].
func (s *Store) MakeBucket(ctx context.Context, name string) error {
	in := &s3.CreateBucketInput{Bucket: &name}
	if s.cfg.Region != "us-east-1" { // which must not be named, says the reference
		in.CreateBucketConfiguration = &types.CreateBucketConfiguration{
			LocationConstraint: types.BucketLocationConstraint(s.cfg.Region)}
	}
	_, err := s.sdk.CreateBucket(ctx, in)
	err = sdkError(ctx, s.cfg.Name, "make bucket", name, err)
	var e *place.Error
	if errors.As(err, &e) && strings.HasPrefix(e.Code, "BucketAlready") {
		e.Kind = place.Exists
	}
	return err
}

// RemoveBucket removes an empty bucket (DeleteBucket).
func (s *Store) RemoveBucket(ctx context.Context, name string) error {
	_, err := s.sdk.DeleteBucket(ctx, &s3.DeleteBucketInput{Bucket: &name})
	return sdkError(ctx, s.cfg.Name, "delete bucket", name, err)
}

var bucketName = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]*[a-z0-9]$`)

// CheckBucketName holds a name against "Bucket naming rules" of the API's
// user guide.
func (s *Store) CheckBucketName(name string) error {
	why := ""
	switch {
	case len(name) < 3 || len(name) > 63:
		why = "a bucket's name has 3 to 63 characters"
	case !bucketName.MatchString(name):
		why = "a bucket's name has lower-case letters, digits, dots and hyphens, with a letter or digit at both ends"
	case strings.Contains(name, "..") || strings.Contains(name, ".-") || strings.Contains(name, "-."):
		why = "dots in a bucket's name stand between letters or digits"
	case net.ParseIP(name) != nil:
		why = "a bucket's name must not look like an IP address"
	case strings.HasPrefix(name, "xn--") || strings.HasPrefix(name, "sthree-") ||
		strings.HasSuffix(name, "-s3alias") || strings.HasSuffix(name, "--ol-s3"):
		why = "this beginning or ending is reserved by the API"
	default:
		return nil
	}
	return place.NewError(s.cfg.Name, "make bucket", name, place.BadName, errors.New(why))
}

var _ place.VersioningSwitch = (*Store)(nil)

// Versioning asks for the bucket's state (GetBucketVersioning).
func (s *Store) Versioning(ctx context.Context, bucket string) (place.Versioning, error) {
	out, err := s.sdk.GetBucketVersioning(ctx, &s3.GetBucketVersioningInput{Bucket: &bucket})
	if err != nil {
		return "", sdkError(ctx, s.cfg.Name, "read versioning", bucket, err)
	}
	switch out.Status {
	case types.BucketVersioningStatusEnabled:
		return place.VersioningOn, nil
	case types.BucketVersioningStatusSuspended:
		return place.VersioningSuspended, nil
	}
	return place.VersioningOff, nil
}

// SetVersioning switches versioning on or suspends it (PutBucketVersioning).
func (s *Store) SetVersioning(ctx context.Context, bucket string, on bool) error {
	status := types.BucketVersioningStatusSuspended
	if on {
		status = types.BucketVersioningStatusEnabled
	}
	_, err := s.sdk.PutBucketVersioning(ctx, &s3.PutBucketVersioningInput{Bucket: &bucket,
		ChecksumAlgorithm:       types.ChecksumAlgorithmCrc32,
		VersioningConfiguration: &types.VersioningConfiguration{Status: status}})
	return sdkError(ctx, s.cfg.Name, "set versioning", bucket, err)
}

// Now asks the store for its time, without signing (RFC 9110, section 6.6.1).
func (s *Store) Now(ctx context.Context) (time.Time, error) {
	return wire.Now(ctx, s.http, s.cfg.Name, s.base.String())
}

// permissions are the actions of the API's "Actions, resources, and condition
// keys", by step of a test.
var permissions = map[string]string{
	"list buckets": "s3:ListAllMyBuckets", "list": "s3:ListBucket", "read": "s3:GetObject", "write": "s3:PutObject",
	"delete":     "s3:DeleteObject",
	"versioning": "s3:GetBucketVersioning", "tags": "s3:PutObjectTagging",
	"parts":    "s3:PutObject and s3:AbortMultipartUpload",
	"metadata": "s3:PutObject and s3:GetObject", "copy inside": "s3:PutObject and s3:GetObject",
	"rate": "s3:PutObject", "write if absent": "s3:PutObject",
}

// Permission is what the API calls the permission for a step of a test.
func (s *Store) Permission(step string) string { return permissions[step] }
