package place

import (
	"context"
	"io"
	"slices"
	"time"

	"lumtra/core/object"
)

// The optional abilities. A place that has one implements the interface; ask
// with a type assertion, as database/sql does with its drivers.

// PartWriter takes a big object in parts, in any order and from many
// goroutines, and remembers the parts across a restart of Lumtra.
type PartWriter interface {
	// Begin opens an upload. What opts says about the object (times, class,
	// metadata) is fixed here; its Condition and Sum are for Finish.
	Begin(ctx context.Context, key string, opts WriteOptions) (Upload, error)
	// WritePart stores part number (1 and up) of size bytes that lies at offset
	// of the whole. Sum, when not zero, is verified as in Write. Writing a
	// number again replaces the part.
	WritePart(ctx context.Context, up Upload, number int, offset int64, body io.Reader, size int64, sum object.Sum) (Part, error)
	// Parts lists the parts stored so far, by number. A gone upload is [NotFound].
	Parts(ctx context.Context, up Upload) ([]Part, error)
	// Finish joins the parts into the object, or changes nothing.
	Finish(ctx context.Context, up Upload, parts []Part, opts WriteOptions) (object.Entry, error)
	// Abort drops the upload and its parts. A gone upload is no error.
	Abort(ctx context.Context, up Upload) error
	// Uploads lists what was begun and neither finished nor aborted.
	Uploads(ctx context.Context) ([]Upload, error)
}

// UploadFinder is a [PartWriter] that finds the unfinished uploads of one key
// without listing all.
type UploadFinder interface {
	UploadsOf(ctx context.Context, key string) ([]Upload, error)
}

// UploadsOf finds what was begun for a key and neither finished nor aborted.
func UploadsOf(ctx context.Context, p PartWriter, key string) ([]Upload, error) {
	if f, ok := p.(UploadFinder); ok {
		return f.UploadsOf(ctx, key)
	}
	all, err := p.Uploads(ctx)
	return slices.DeleteFunc(all, func(up Upload) bool { return up.Key != key }), err
}

// Upload names an object being written in parts.
type Upload struct {
	Key, ID string
	// Begun is when, if the place tells.
	Begun time.Time
}

// Part is one stored part of an [Upload].
type Part struct {
	Number int
	Size   int64
	ETag   string
	// Sum is the part's checksum as it was sent; zero if unknown.
	Sum object.Sum
	// MD5 is that of the part's content, 16 bytes, where it was computed.
	MD5 string
	// Unverified tells that the store has not vouched for the part: then the joined
	// object is looked at as a whole.
	Unverified bool
}

// ServerCopier copies within its own service: no content passes through Lumtra.
type ServerCopier interface {
	// CanCopyFrom tells whether from lies in the same service.
	CanCopyFrom(from Place) bool
	// CopyFrom makes the object key from one of from's. The source must still
	// have the mark in src.IfMark when that is not "".
	CopyFrom(ctx context.Context, from Place, src object.Ref, key string, opts WriteOptions) (object.Entry, error)
}

// PartCopier is a [ServerCopier] that copies an object too large for one request
// range by range, as the parts of an upload.
type PartCopier interface {
	ServerCopier
	PartWriter
	// CanCopyParts tells whether the service copies ranges, as far as that is known.
	CanCopyParts() bool
	// CopyPart makes part number of size bytes from what lies at offset of src,
	// under the conditions of CopyFrom. The part's Sum is zero where the service
	// does not tell one.
	CopyPart(ctx context.Context, up Upload, number int, from Place, src object.Ref, offset, size int64) (Part, error)
}

// NameChecker says beforehand which keys it cannot hold, and why.
type NameChecker interface {
	// CheckName returns a [BadName] error for a key that can never be written.
	CheckName(key string) error
}

// Roomy knows how much room is left.
type Roomy interface {
	// Room is how many bytes can still be stored.
	Room(ctx context.Context) (int64, error)
	// FoldsCase tells that names which differ in capitals only are the same.
	FoldsCase() bool
}

// Endpoint is where places come from: a folder root or an account of a store.
type Endpoint interface {
	// Name is the label it has in the workspace.
	Name() string
	// Open gives the place at path: "bucket/prefix" at a store, a subfolder at
	// a folder. It does not touch the network; a path that cannot be is an error.
	Open(path string) (Place, error)
	// Close ends what the endpoint holds open.
	Close() error
}

// Buckets is an [Endpoint] with buckets at its top.
type Buckets interface {
	Buckets(ctx context.Context) ([]Bucket, error)
	// CheckBucketName says beforehand what is wrong with a bucket's name, as
	// a [BadName] error.
	CheckBucketName(name string) error
	MakeBucket(ctx context.Context, name string) error
	// RemoveBucket removes an empty bucket; one that is not is an error.
	RemoveBucket(ctx context.Context, name string) error
}

// Bucket is one line of a bucket listing.
type Bucket struct {
	Name string
	Made time.Time
}

// VersioningSwitch is an [Endpoint] whose buckets can be told to keep older
// versions.
type VersioningSwitch interface {
	// Versioning asks the store for the state in force.
	Versioning(ctx context.Context, bucket string) (Versioning, error)
	// SetVersioning asks for another state. Whether it took is for Versioning
	// to tell.
	SetVersioning(ctx context.Context, bucket string, on bool) error
}

// Versioning is whether a bucket keeps older versions.
type Versioning string

// The states. A bucket that once kept versions is never plain again.
const (
	VersioningOff       Versioning = "off"
	VersioningOn        Versioning = "on"
	VersioningSuspended Versioning = "suspended"
)
