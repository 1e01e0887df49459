package s3

import (
	"testing"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/stretchr/testify/assert"

	"lumtra/core/place"
)

// What a statement of a policy lets anybody do is found whatever way it is written, and
// nothing that only some may do is called public.
func TestGrantOf(t *testing.T) {
	for _, c := range []struct {
		text string
		is   place.Public
	}{
		{`{"Effect":"Allow","Principal":"*","Action":"s3:GetObject"}`, place.PublicRead},
		{`{"Effect":"Allow","Principal":{"AWS":"*"},"Action":["s3:GetObject","s3:ListBucket"]}`, place.PublicList},
		{`{"Effect":"Allow","Principal":{"AWS":["arn:x","*"]},"Action":"s3:List*"}`, place.PublicList},
		{`{"Effect":"Allow","Principal":"*","Action":"*"}`, place.PublicWrite},
		{`{"Effect":"Allow","Principal":"*","Action":"s3:*"}`, place.PublicWrite},
		{`{"Effect":"Allow","Principal":"*","Action":"S3:putobject"}`, place.PublicWrite},
		{`{"Effect":"Allow","NotPrincipal":{"AWS":"arn:x"},"Action":"s3:GetObject"}`, place.PublicRead},
		{`{"Effect":"Deny","Principal":"*","Action":"s3:*"}`, place.PublicNo},
		{`{"Effect":"Allow","Principal":{"AWS":"arn:x"},"Action":"s3:*"}`, place.PublicNo},
		{`{"Effect":"Allow","Principal":"*","Action":"s3:GetObject","Condition":{"Bool":{"x":true}}}`, place.PublicNo},
		{`{"Effect":"Allow","Principal":"*","Action":"s3:GetBucketLocation"}`, place.PublicNo},
		{`[1]`, place.PublicNo},
	} {
		public, words := grantOf([]byte(c.text))
		assert.Equal(t, c.is, public, c.text)
		assert.NotEmpty(t, words)
	}
}

func TestListed(t *testing.T) {
	group := func(uri string, p types.Permission) types.Grant {
		return types.Grant{Grantee: &types.Grantee{URI: aws.String(uri)}, Permission: p}
	}
	for _, c := range []struct {
		grant types.Grant
		is    place.Public
		words string
	}{
		{group(allUsers, types.PermissionRead), place.PublicList, "anybody has read"},
		{group(allUsers, types.PermissionWrite), place.PublicWrite, "anybody has write"},
		{group(allUsers, types.PermissionReadAcp), place.PublicNo, "anybody has read acp"},
		{group(authenticated, types.PermissionFullControl), place.PublicWrite,
			"any account of the service has full control"},
		{types.Grant{Grantee: &types.Grantee{ID: aws.String("x")}, Permission: types.PermissionFullControl},
			place.PublicNo, ""},
		{types.Grant{Grantee: &types.Grantee{ID: aws.String("x")}, Permission: types.PermissionRead}, place.PublicNo,
			"another account has read"},
		{types.Grant{}, place.PublicNo, ""},
	} {
		is, words := listed(c.grant)
		assert.Equal(t, c.is, is, c.words)
		assert.Equal(t, c.words, words)
	}
}
