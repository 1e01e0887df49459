package place

import (
	"context"
	"errors"
	"io"
	"iter"
	"slices"
	"time"

	"lumtra/core/object"
)

// What some places can do beside [Place]. One that can implements the interface; what
// works with places asks [Can].

// PartWriter takes a big object in parts, in any order and from many
// goroutines, and remembers the parts across a restart of Lumtra.
type PartWriter interface {
	// Begin opens an upload. What opts says about the object (times, class,
	// metadata) is fixed here; its Condition and Sum are for Finish.
	Begin(ctx context.Context, key string, opts WriteOptions) (Upload, error)
	// WritePart stores part number (1 and up) of size bytes that lies at offset
	// of the whole. Sum, when not zero, is verified as in Write. Writing a
	// number again replaces the part.
	WritePart(ctx context.Context, up Upload, number int, offset int64, body io.Reader, size int64,
		sum object.Sum) (Part, error)
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

// OpensUploads tells whether beginning an upload is a request to a store, whose answer may be lost, and unfinished
// ones can be found by their key.
func OpensUploads(p PartWriter) bool {
	_, ok := p.(UploadFinder)
	return ok
}

// strayAge is how much before it was asked for an upload may seem to have been begun, by a store's clock.
const strayAge = time.Minute

// Strays are the uploads of a key that were opened without anybody living to see the answer.
type Strays struct {
	Key string
	// Since is from when on they may have been begun, Until up to when; zero for without end.
	Since, Until time.Time
	// Known are the IDs of those that somebody knows.
	Known map[string]bool
	// Before are those that were there before any of them was opened, if that was Noted: then no dates count,
	// which some stores do not have.
	Before []string
	Noted  bool
}

// is tells whether an upload is one of them.
func (s *Strays) is(up *Upload) bool {
	switch {
	case s.Known[up.ID] || slices.Contains(s.Before, up.ID):
		return false
	case s.Noted || up.Begun.IsZero():
		return true
	}
	return up.Begun.After(s.Since.Add(-strayAge)) && (s.Until.IsZero() || up.Begun.Before(s.Until))
}

// AbortStrays aborts them. ask makes each of the requests.
func AbortStrays(ctx context.Context, p PartWriter, s Strays, ask func(func() error) error) error {
	var ups []Upload
	err := ask(func() (err error) {
		ups, err = UploadsOf(ctx, p, s.Key)
		return err
	})
	errs := []error{err}
	for _, up := range ups {
		if s.is(&up) {
			errs = append(errs, ask(func() error { return p.Abort(ctx, up) }))
		}
	}
	return errors.Join(errs...)
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

// Describer tells what a file system keeps and no object has.
type Describer interface {
	// Describe is of a file or a link, or of a folder, whose key ends in "/".
	Describe(ctx context.Context, key string) (File, error)
	// Attributes are its extended attributes, by their names, as far as they can be read.
	Attributes(ctx context.Context, key string) (map[string]string, error)
	// Beside yields the keys of all folders below one, "" or with "/" at its end, each with "/" at its end,
	// and links, in byte order.
	Beside(ctx context.Context, folder string) iter.Seq2[string, error]
}

// File is what a file system keeps of something.
type File struct {
	Size     int64
	Modified time.Time
	// Mode are the permission bits as chmod(2) has them; numbers and names are the owner's.
	Mode        uint32
	UID, GID    int
	User, Group string
	// Folder, Special and Link, which says where a symbolic link leads, tell what it is.
	Folder, Special bool
	Link            string
	// Inode tells files that have several names; zero for one that has one.
	Inode [2]uint64
	// Sparse tells that it takes less room than it has bytes: there are holes in it.
	Sparse bool
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

// BucketTagger is an [Endpoint] whose buckets have tags, or the like, of their own.
type BucketTagger interface {
	BucketTags(ctx context.Context, bucket string) (map[string]string, error)
	// SetBucketTags replaces all of them.
	SetBucketTags(ctx context.Context, bucket string, tags map[string]string) error
}

// BucketAccess is an [Endpoint] that tells who may reach a bucket, and changes it.
type BucketAccess interface {
	// Access asks the store for all that grants access, as far as it may be seen.
	Access(ctx context.Context, bucket string) (Access, error)
	// SetPublic changes what anybody may do; what is granted to some stays. Whether it took
	// is for Access to tell. [PublicWrite] cannot be set.
	SetPublic(ctx context.Context, bucket string, public Public) error
}

// Public is what anybody may do with a bucket, without signing.
type Public string

// The degrees of it; each has those before it.
const (
	PublicNo    Public = "no"
	PublicRead  Public = "read"  // read objects whose names are known
	PublicList  Public = "list"  // list them, too
	PublicWrite Public = "write" // write or remove them, too
)

// Publics are the degrees, rising.
var Publics = []Public{PublicNo, PublicRead, PublicList, PublicWrite}

// Words say it plainly.
func (p Public) Words() string {
	return map[Public]string{
		PublicNo:    "only who is granted access, and signs, reaches it",
		PublicRead:  "anybody may read objects whose names they know",
		PublicList:  "anybody may list it and read every object",
		PublicWrite: "anybody may write or delete objects",
	}[p]
}

// Access is who may reach a bucket.
type Access struct {
	Public Public
	// Words are all grants and limits, a plain line each.
	Words []string
}

// Widen takes in that anybody may do something more.
func (a *Access) Widen(to Public) {
	if slices.Index(Publics, to) > slices.Index(Publics, a.Public) {
		a.Public = to
	}
}

// Versioning is whether a bucket keeps older versions.
type Versioning string

// The states. A bucket that once kept versions is never plain again.
const (
	VersioningOff       Versioning = "off"
	VersioningOn        Versioning = "on"
	VersioningSuspended Versioning = "suspended"
)
