package standin_test

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/bloberror"
	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/standin"
)

const clientKey = "c2FsdG1hcnNo"

func served(t *testing.T, api string) string {
	srv, err := standin.New(standin.Config{Dir: t.TempDir(), API: api,
		Keys: []standin.Key{{Access: "marsh", Secret: clientKey}}})
	require.NoError(t, err)
	t.Cleanup(func() { srv.Close() })
	address, err := srv.Start("127.0.0.1:0")
	require.NoError(t, err)
	return address
}

// alone is a client whose connections end with the test.
func alone(t *testing.T) *http.Client {
	web := &http.Client{Transport: &http.Transport{}}
	t.Cleanup(web.CloseIdleConnections)
	return web
}

// whole is all of a body, which ends with it.
func whole(t *testing.T, body io.ReadCloser) string {
	defer body.Close()
	data, err := io.ReadAll(body)
	require.NoError(t, err)
	return string(data)
}

// The services' own clients, as they are set up by themselves, get from the stand-in what they get from the
// service: whole objects, ranges, nothing at all, and errors they know.
func TestClientOfS3(t *testing.T) {
	ctx, address, web := context.Background(), served(t, ""), alone(t)
	c := s3.New(s3.Options{HTTPClient: web,
		Region: "us-east-1", BaseEndpoint: &address, UsePathStyle: true,
		Credentials: aws.CredentialsProviderFunc(func(context.Context) (aws.Credentials, error) {
			return aws.Credentials{AccessKeyID: "marsh", SecretAccessKey: clientKey}, nil
		})})
	bucket := aws.String("archive")
	_, err := c.CreateBucket(ctx, &s3.CreateBucketInput{Bucket: bucket})
	require.NoError(t, err)
	for key, text := range map[string]string{"empty": "", "dunlin.txt": "a bittern, far off"} {
		_, err = c.PutObject(ctx, &s3.PutObjectInput{Bucket: bucket, Key: &key, Body: strings.NewReader(text),
			Metadata: map[string]string{"site": "weir"}})
		require.NoError(t, err)
		got, err := c.GetObject(ctx, &s3.GetObjectInput{Bucket: bucket, Key: &key})
		require.NoError(t, err)
		assert.Equal(t, text, whole(t, got.Body))
		assert.Equal(t, "weir", got.Metadata["site"])
		head, err := c.HeadObject(ctx, &s3.HeadObjectInput{Bucket: bucket, Key: &key})
		require.NoError(t, err)
		assert.EqualValues(t, len(text), aws.ToInt64(head.ContentLength))
		part, err := c.GetObject(ctx, &s3.GetObjectInput{Bucket: bucket, Key: &key, Range: aws.String("bytes=2-8")})
		if text == "" {
			assert.ErrorContains(t, err, "InvalidRange")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, text[2:9], whole(t, part.Body))
	}
	_, err = c.GetObject(ctx, &s3.GetObjectInput{Bucket: bucket, Key: aws.String("gone")})
	var missing *types.NoSuchKey
	assert.ErrorAs(t, err, &missing)

	up, err := c.CreateMultipartUpload(ctx, &s3.CreateMultipartUploadInput{Bucket: bucket, Key: aws.String("large")})
	require.NoError(t, err)
	var parts []types.CompletedPart
	for n, text := range []string{strings.Repeat("tide ", 1<<20), "the rest"} {
		out, err := c.UploadPart(ctx, &s3.UploadPartInput{Bucket: bucket, Key: aws.String("large"),
			UploadId: up.UploadId, PartNumber: aws.Int32(int32(n + 1)), Body: strings.NewReader(text)})
		require.NoError(t, err)
		parts = append(parts, types.CompletedPart{ETag: out.ETag, PartNumber: aws.Int32(int32(n + 1)),
			ChecksumCRC32: out.ChecksumCRC32})
	}
	_, err = c.CompleteMultipartUpload(ctx, &s3.CompleteMultipartUploadInput{Bucket: bucket, Key: aws.String("large"),
		UploadId: up.UploadId, MultipartUpload: &types.CompletedMultipartUpload{Parts: parts}})
	require.NoError(t, err)
	_, err = c.CopyObject(ctx, &s3.CopyObjectInput{Bucket: bucket, Key: aws.String("copied"),
		CopySource: aws.String("archive/dunlin.txt")})
	require.NoError(t, err)
	listed, err := c.ListObjectsV2(ctx, &s3.ListObjectsV2Input{Bucket: bucket})
	require.NoError(t, err)
	var ids []types.ObjectIdentifier
	for _, o := range listed.Contents {
		ids = append(ids, types.ObjectIdentifier{Key: o.Key})
	}
	assert.Len(t, ids, 4)
	_, err = c.DeleteObjects(ctx, &s3.DeleteObjectsInput{Bucket: bucket, Delete: &types.Delete{Objects: ids}})
	require.NoError(t, err)
	listed, err = c.ListObjectsV2(ctx, &s3.ListObjectsV2Input{Bucket: bucket})
	require.NoError(t, err)
	assert.Empty(t, listed.Contents)
}

func TestClientOfBlob(t *testing.T) {
	ctx, address, web := context.Background(), served(t, standin.BlobAPI), alone(t)
	cred, err := azblob.NewSharedKeyCredential("marsh", clientKey)
	require.NoError(t, err)
	c, err := azblob.NewClientWithSharedKeyCredential(address+"/marsh", cred,
		&azblob.ClientOptions{ClientOptions: azcore.ClientOptions{Transport: web}})
	require.NoError(t, err)
	_, err = c.CreateContainer(ctx, "archive", nil)
	require.NoError(t, err)
	for key, size := range map[string]int{"empty": 0, "small": 18, "large": 9 << 20} {
		data := bytes.Repeat([]byte("t"), size)
		_, err = c.UploadBuffer(ctx, "archive", key, data, &azblob.UploadBufferOptions{BlockSize: 4 << 20})
		require.NoError(t, err)
		got := make([]byte, size)
		n, err := c.DownloadBuffer(ctx, "archive", key, got, &azblob.DownloadBufferOptions{BlockSize: 1 << 20})
		require.NoError(t, err, "%s: in ranges", key)
		assert.EqualValues(t, size, n)
		assert.True(t, bytes.Equal(data, got), key)
		all, err := c.DownloadStream(ctx, "archive", key, nil)
		require.NoError(t, err)
		assert.Len(t, whole(t, all.Body), size)
		part, err := c.DownloadStream(ctx, "archive", key,
			&azblob.DownloadStreamOptions{Range: blob.HTTPRange{Count: 5}})
		if size == 0 {
			assert.True(t, bloberror.HasCode(err, bloberror.InvalidRange), "%v", err)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, "ttttt", whole(t, part.Body))
	}
	_, err = c.DownloadStream(ctx, "archive", "gone", nil)
	assert.True(t, bloberror.HasCode(err, bloberror.BlobNotFound), "%v", err)
	names := 0
	for pages := c.NewListBlobsFlatPager("archive", nil); pages.More(); {
		page, err := pages.NextPage(ctx)
		require.NoError(t, err)
		names += len(page.Segment.BlobItems)
	}
	assert.Equal(t, 3, names)
	_, err = c.DeleteBlob(ctx, "archive", "small", nil)
	require.NoError(t, err)
}
