package blob

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/binary"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore/streaming"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blockblob"

	"lumtra/core/object"
	"lumtra/core/place"
)

// check is what the service is to hold a piece against as it arrives, and the
// MD5 to keep with a blob, if one was computed. The service's CRC-64 is that of
// NVM Express, which is known already ("x-ms-content-crc64", Put Blob); MD5
// costs ten times as much, but every server verifies it.
func (p *Place) check(data []byte, sum object.Sum) (blob.TransferValidationType, []byte) {
	if p.store.cfg.CRC64 {
		return blob.TransferValidationTypeCRC64(binary.BigEndian.Uint64([]byte(sum.Value))), nil
	}
	digest := md5.Sum(data)
	return blob.TransferValidationTypeMD5(digest[:]), digest[:]
}

// Verifies finds out by trying which checks the service makes on what arrives:
// content at key is sent with a wrong one of each kind. What it writes, where a
// wrong one is taken, is the caller's to remove.
func (p *Place) Verifies(ctx context.Context, key string) ([]object.SumKind, error) {
	wrong := md5.Sum([]byte("other content"))
	var kinds []object.SumKind
	for kind, check := range map[object.SumKind]blob.TransferValidationType{
		object.CRC64NVME: blob.TransferValidationTypeCRC64(12345), object.MD5: blob.TransferValidationTypeMD5(wrong[:]),
	} {
		_, err := p.client.NewBlockBlobClient(p.prefix+key).Upload(ctx, streaming.NopCloser(bytes.NewReader([]byte("content"))), &blockblob.UploadOptions{TransactionalValidation: check})
		switch err := p.fail(ctx, "write", key, err); {
		case err == nil:
		case place.KindOf(err) == place.Corrupt:
			kinds = append(kinds, kind)
		default:
			return nil, err
		}
	}
	return kinds, nil
}
