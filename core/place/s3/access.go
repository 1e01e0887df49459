package s3

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"

	"lumtra/core/place"
)

var (
	_ place.BucketTagger = (*Store)(nil)
	_ place.BucketAccess = (*Store)(nil)
)

// BucketTags reads a bucket's tags (GetBucketTagging).
func (s *Store) BucketTags(ctx context.Context, bucket string) (map[string]string, error) {
	out, err := s.sdk.GetBucketTagging(ctx, &s3.GetBucketTaggingInput{Bucket: &bucket})
	if err = sdkError(ctx, s.cfg.Name, "read the bucket's tags", bucket, err); err != nil {
		if codeOf(err) != "NoSuchTagSet" {
			return nil, err
		}
		// Some servers say so of a bucket that is not there, too.
		_, err := s.sdk.HeadBucket(ctx, &s3.HeadBucketInput{Bucket: &bucket})
		return map[string]string{}, sdkError(ctx, s.cfg.Name, "read the bucket's tags", bucket, err)
	}
	tags := map[string]string{}
	for _, t := range out.TagSet {
		tags[aws.ToString(t.Key)] = aws.ToString(t.Value)
	}
	return tags, nil
}

// SetBucketTags replaces a bucket's tags (PutBucketTagging, DeleteBucketTagging).
func (s *Store) SetBucketTags(ctx context.Context, bucket string, tags map[string]string) error {
	const op = "set the bucket's tags"
	if len(tags) == 0 {
		_, err := s.sdk.DeleteBucketTagging(ctx, &s3.DeleteBucketTaggingInput{Bucket: &bucket})
		return sdkError(ctx, s.cfg.Name, op, bucket, err)
	}
	set := &types.Tagging{}
	for name, value := range tags {
		set.TagSet = append(set.TagSet, types.Tag{Key: aws.String(name), Value: aws.String(value)})
	}
	slices.SortFunc(set.TagSet, func(a, b types.Tag) int { return strings.Compare(*a.Key, *b.Key) })
	_, err := s.sdk.PutBucketTagging(ctx, &s3.PutBucketTaggingInput{Bucket: &bucket, Tagging: set,
		ChecksumAlgorithm: types.ChecksumAlgorithmCrc32})
	return sdkError(ctx, s.cfg.Name, op, bucket, err)
}

// absent tells that a store has no such document, or does not know the request for it.
func absent(err error) bool {
	var e *place.Error
	return errors.As(err, &e) && (strings.HasPrefix(e.Code, "NoSuch") && e.Code != "NoSuchBucket" ||
		e.Code == "NotImplemented" || e.Code == "MethodNotAllowed" || e.Code == "XNotImplemented" ||
		e.Status == http.StatusNotImplemented || e.Status == http.StatusMethodNotAllowed)
}

// granting are the documents of a bucket that grant access.
type granting struct {
	policy policy
	grants []types.Grant
	owner  *types.Owner
	block  types.PublicAccessBlockConfiguration
	blocks bool // the store knows of such blocks
	// notSeen are those that may not be read.
	notSeen []string
}

// policy is a bucket policy, statement by statement as the store has it.
type policy struct {
	Version   string            `json:"Version,omitempty"`
	ID        string            `json:"Id,omitempty"`
	Statement []json.RawMessage `json:"Statement"`
}

// statement is what matters here of one ("Policies and permissions", the API's user guide).
type statement struct {
	Sid          string
	Effect       string
	Principal    any
	NotPrincipal any
	Action       any
	Condition    map[string]any
}

// granting reads what grants access to a bucket (GetBucketPolicy, GetBucketAcl,
// GetPublicAccessBlock).
func (s *Store) granting(ctx context.Context, bucket string) (g granting, err error) {
	take := func(what string, err error) (bool, error) {
		switch err = sdkError(ctx, s.cfg.Name, "read "+what, bucket, err); {
		case err == nil:
			return true, nil
		case absent(err):
			return false, nil
		case place.KindOf(err) == place.Denied:
			g.notSeen = append(g.notSeen, what)
			return false, nil
		}
		return false, err
	}
	p, err := s.sdk.GetBucketPolicy(ctx, &s3.GetBucketPolicyInput{Bucket: &bucket})
	there, err := take("the bucket's policy", err)
	if err != nil {
		return g, err
	}
	if there && aws.ToString(p.Policy) != "" {
		if err := json.Unmarshal([]byte(*p.Policy), &g.policy); err != nil {
			return g, place.NewError(s.cfg.Name, "read the bucket's policy", bucket, place.ServerFault, err)
		}
	}
	acl, err := s.sdk.GetBucketAcl(ctx, &s3.GetBucketAclInput{Bucket: &bucket})
	if there, err = take("the bucket's access list", err); err != nil {
		return g, err
	} else if there {
		g.grants, g.owner = acl.Grants, acl.Owner
	}
	b, err := s.sdk.GetPublicAccessBlock(ctx, &s3.GetPublicAccessBlockInput{Bucket: &bucket})
	g.blocks = codeOf(sdkError(ctx, "", "", "", err)) == "NoSuchPublicAccessBlockConfiguration"
	if there, err = take("what blocks public access", err); err != nil {
		return g, err
	} else if there && b.PublicAccessBlockConfiguration != nil {
		g.block = *b.PublicAccessBlockConfiguration
		g.blocks = g.block != types.PublicAccessBlockConfiguration{} // else it answered another question
	}
	return g, nil
}

// Access tells who may reach a bucket.
func (s *Store) Access(ctx context.Context, bucket string) (place.Access, error) {
	g, err := s.granting(ctx, bucket)
	if err != nil {
		return place.Access{}, err
	}
	a := place.Access{Public: place.PublicNo}
	for _, raw := range g.policy.Statement {
		public, words := grantOf(raw)
		if public != place.PublicNo && aws.ToBool(g.block.RestrictPublicBuckets) {
			public, words = place.PublicNo, words+" (blocked: only within the account)"
		}
		a.Widen(public)
		a.Words = append(a.Words, "policy: "+words)
	}
	for _, grant := range g.grants {
		public, words := listed(grant)
		if words == "" {
			continue
		}
		if public != place.PublicNo && aws.ToBool(g.block.IgnorePublicAcls) {
			public, words = place.PublicNo, words+" (blocked: access lists do not count)"
		}
		a.Widen(public)
		a.Words = append(a.Words, "access list: "+words)
	}
	if b := g.block; aws.ToBool(b.BlockPublicAcls) && aws.ToBool(b.BlockPublicPolicy) &&
		aws.ToBool(b.IgnorePublicAcls) && aws.ToBool(b.RestrictPublicBuckets) {
		a.Words = append(a.Words, "public access is blocked, whatever else says")
	}
	for _, what := range g.notSeen {
		a.Words = append(a.Words, "not seen, as it may not be read: "+what)
	}
	return a, nil
}

// listOf are the texts of a value that is one text or a list of them.
func listOf(v any) (all []string) {
	switch v := v.(type) {
	case string:
		return []string{v}
	case []any:
		for _, x := range v {
			if text, ok := x.(string); ok {
				all = append(all, text)
			}
		}
	}
	return all
}

// everybody tells a principal that stands for whoever asks.
func everybody(principal any) bool {
	if m, ok := principal.(map[string]any); ok {
		principal = m["AWS"]
	}
	return slices.Contains(listOf(principal), "*")
}

// grantOf says what one statement of a policy lets anybody do, and in words what it says.
func grantOf(raw json.RawMessage) (place.Public, string) {
	var st statement
	if json.Unmarshal(raw, &st) != nil {
		return place.PublicNo, "a statement that cannot be read"
	}
	who := "some named accounts"
	if st.NotPrincipal != nil {
		who = "all but some named accounts"
	}
	if everybody(st.Principal) {
		who = "anybody"
	}
	actions := listOf(st.Action)
	verb := map[string]string{"Allow": "may", "Deny": "may not"}[st.Effect]
	words := fmt.Sprintf("%s %s %s", who, verb, strings.Join(actions, ", "))
	if len(st.Condition) > 0 {
		return place.PublicNo, words + ", under a condition"
	}
	a := place.Access{Public: place.PublicNo}
	if who != "some named accounts" && st.Effect == "Allow" {
		for _, action := range actions {
			a.Widen(publicBy(strings.TrimPrefix(strings.ToLower(action), "s3:")))
		}
	}
	return a.Public, words
}

// publicBy is what an action lets one do.
func publicBy(action string) place.Public {
	before, _, wild := strings.Cut(action, "*")
	covers := func(name string) bool { return action == name || wild && strings.HasPrefix(name, before) }
	switch {
	case covers("putobject"), covers("deleteobject"), covers("putbucketpolicy"), covers("deletebucket"):
		return place.PublicWrite
	case covers("listbucket"):
		return place.PublicList
	case covers("getobject"):
		return place.PublicRead
	}
	return place.PublicNo
}

// The groups of an access list ("Access control list overview", the API's user guide).
const (
	allUsers      = "http://acs.amazonaws.com/groups/global/AllUsers"
	authenticated = "http://acs.amazonaws.com/groups/global/AuthenticatedUsers"
)

// listed says what a line of the access list lets anybody do; "" for the owner's own.
func listed(g types.Grant) (place.Public, string) {
	if g.Grantee == nil {
		return place.PublicNo, ""
	}
	who := "another account"
	switch aws.ToString(g.Grantee.URI) {
	case allUsers:
		who = "anybody"
	case authenticated:
		who = "any account of the service"
	case "":
		if g.Permission == types.PermissionFullControl {
			return place.PublicNo, "" // the owner, as a rule
		}
	}
	words := who + " has " + strings.ToLower(strings.ReplaceAll(string(g.Permission), "_", " "))
	if who == "another account" {
		return place.PublicNo, words
	}
	switch g.Permission {
	case types.PermissionRead:
		return place.PublicList, words
	case types.PermissionWrite, types.PermissionFullControl, types.PermissionWriteAcp:
		return place.PublicWrite, words
	}
	return place.PublicNo, words
}

// SetPublic changes what anybody may do: in the policy, in the access list, and in what
// blocks public access, where the store knows of it.
func (s *Store) SetPublic(ctx context.Context, bucket string, public place.Public) error {
	const op = "change who may reach the bucket"
	g, err := s.granting(ctx, bucket)
	if err == nil && len(g.notSeen) > 0 {
		err = place.NewError(s.cfg.Name, op, bucket, place.Denied,
			fmt.Errorf("what grants access may not be read: %s", strings.Join(g.notSeen, ", ")))
	}
	if err != nil {
		return err
	}
	closed := public == place.PublicNo
	if g.blocks {
		if err := s.block(ctx, bucket, g.block, closed); err != nil {
			return sdkError(ctx, s.cfg.Name, op, bucket, err)
		}
	}
	if err := s.setPolicy(ctx, bucket, g.policy, public); err != nil {
		return sdkError(ctx, s.cfg.Name, op, bucket, err)
	}
	kept := slices.DeleteFunc(slices.Clone(g.grants), func(x types.Grant) bool {
		is, _ := listed(x)
		return is != place.PublicNo
	})
	if len(kept) == len(g.grants) {
		return nil
	}
	_, err = s.sdk.PutBucketAcl(ctx, &s3.PutBucketAclInput{Bucket: &bucket,
		ChecksumAlgorithm:   types.ChecksumAlgorithmCrc32,
		AccessControlPolicy: &types.AccessControlPolicy{Grants: kept, Owner: g.owner}})
	return sdkError(ctx, s.cfg.Name, op, bucket, err)
}

// block blocks public access, or lets policies grant it.
func (s *Store) block(ctx context.Context, bucket string, was types.PublicAccessBlockConfiguration, closed bool) error {
	now := was
	now.BlockPublicPolicy, now.RestrictPublicBuckets = &closed, &closed
	if closed {
		now.BlockPublicAcls, now.IgnorePublicAcls = &closed, &closed
	} else if !aws.ToBool(was.BlockPublicPolicy) && !aws.ToBool(was.RestrictPublicBuckets) {
		return nil
	}
	_, err := s.sdk.PutPublicAccessBlock(ctx, &s3.PutPublicAccessBlockInput{Bucket: &bucket,
		ChecksumAlgorithm: types.ChecksumAlgorithmCrc32, PublicAccessBlockConfiguration: &now})
	return err
}

// setPolicy takes out of a policy what lets anybody do anything, and puts in what is to.
func (s *Store) setPolicy(ctx context.Context, bucket string, p policy, public place.Public) error {
	had := len(p.Statement)
	p.Statement = slices.DeleteFunc(slices.Clone(p.Statement), func(raw json.RawMessage) bool {
		is, _ := grantOf(raw)
		return is != place.PublicNo
	})
	dropped := len(p.Statement) < had
	anybody := func(sid, action, resource string) {
		raw, err := json.Marshal(map[string]any{"Sid": sid, "Effect": "Allow", "Principal": "*",
			"Action": []string{action}, "Resource": []string{"arn:aws:s3:::" + resource}})
		if err != nil { // a map of texts
			panic(err)
		}
		p.Statement = append(p.Statement, raw)
	}
	if public != place.PublicNo {
		anybody("AnybodyReads", "s3:GetObject", bucket+"/*")
	}
	if public == place.PublicList {
		anybody("AnybodyLists", "s3:ListBucket", bucket)
	}
	switch {
	case len(p.Statement) == 0 && !dropped:
		return nil
	case len(p.Statement) == 0:
		_, err := s.sdk.DeleteBucketPolicy(ctx, &s3.DeleteBucketPolicyInput{Bucket: &bucket})
		return err
	case public == place.PublicNo && !dropped:
		return nil
	}
	if p.Version == "" {
		p.Version = "2012-10-17"
	}
	raw, err := json.Marshal(p)
	if err != nil {
		return err
	}
	_, err = s.sdk.PutBucketPolicy(ctx, &s3.PutBucketPolicyInput{Bucket: &bucket, Policy: aws.String(string(raw)),
		ChecksumAlgorithm: types.ChecksumAlgorithmCrc32})
	return err
}
