package place

import (
	"context"
	"iter"
	"time"

	"lumtra/core/object"
)

// What some places can do to look at and handle single objects; see [Capabilities].

// Versioned keeps older versions of objects, or can bring removed ones back.
type Versioned interface {
	// Versions lists every version below the prefix, delete markers and
	// removed content included: in byte order of keys, newest first within one.
	// A shallow listing stops at the first "/" after the prefix, as in
	// [ListOptions].
	Versions(ctx context.Context, prefix string, shallow bool) iter.Seq2[object.Entry, error]
	// Undelete makes the newest content of a removed object the current one
	// again. An object that is not removed is no error.
	Undelete(ctx context.Context, key string) error
}

// Tagger keeps tags with objects, apart from their metadata.
type Tagger interface {
	Tags(ctx context.Context, ref object.Ref) (map[string]string, error)
	// SetTags replaces all tags; an empty map removes them.
	SetTags(ctx context.Context, ref object.Ref, tags map[string]string) error
}

// MetadataWriter changes an object's metadata and leaves its content alone.
type MetadataWriter interface {
	// SetMetadata changes what the change names, on the current version, and
	// only while the object has ref.IfMark when that is not "".
	SetMetadata(ctx context.Context, ref object.Ref, change MetadataChange) (object.Entry, error)
}

// MetadataChange is a change to apply to one or many objects.
type MetadataChange struct {
	// Set gives names a value; Drop removes names. Others stay.
	Set  map[string]string
	Drop []string
	// ContentType replaces the media type unless it is "".
	ContentType string
	// Original and Mode replace the time and the permissions the object had
	// where it came from, which a store keeps beside its own, unless they are
	// zero.
	Original time.Time
	Mode     uint32
	// Class replaces the storage class unless it is "".
	Class string
}

// Empty tells that nothing is to change.
func (c MetadataChange) Empty() bool {
	return len(c.Set)+len(c.Drop) == 0 && c.ContentType+c.Class == "" && c.Original.IsZero() && c.Mode == 0
}

// Apply makes the metadata that follow from the change. The old map is not
// touched.
func (c MetadataChange) Apply(old map[string]string) map[string]string {
	now := make(map[string]string, len(old)+len(c.Set))
	for name, value := range old {
		now[name] = value
	}
	for _, name := range c.Drop {
		delete(now, name)
	}
	for name, value := range c.Set {
		now[name] = value
	}
	return now
}

// AttributeSetter changes the attributes of files and leaves their content alone.
type AttributeSetter interface {
	// SetAttributes gives the object another modification time and other permissions,
	// unless they are zero, and only while it has ref.IfMark when that is not "".
	SetAttributes(ctx context.Context, ref object.Ref, original time.Time, mode uint32) (object.Entry, error)
}

// Linker makes addresses by which one object can be read without credentials.
type Linker interface {
	// Link returns an address that works until valid has passed. It is as good
	// as a key to the object, and made without asking the store.
	Link(ctx context.Context, ref object.Ref, valid time.Duration) (string, error)
}

// Restorer brings objects of cold classes back within reach.
type Restorer interface {
	// RestoreTiers are how urgently it can be asked for, in the store's own words, the
	// usual one first. What is more urgent costs more.
	RestoreTiers() []string
	// Restore asks for content to be made readable. It returns at once; [Place.Stat] tells
	// how far it is. Asking again is no error.
	Restore(ctx context.Context, ref object.Ref, opts RestoreOptions) error
}

// RestoreOptions say how a restore is asked for.
type RestoreOptions struct {
	// Days are how long it stays readable, where the store lets it go again.
	Days int
	// Tier is one of RestoreTiers, "" for the usual one.
	Tier string
}

// FolderMaker has folders that can be empty.
type FolderMaker interface {
	// MakeFolder makes the folder key, which ends in "/".
	MakeFolder(ctx context.Context, key string) error
	// RemoveFolder removes an empty folder; one that is not there is no error.
	RemoveFolder(ctx context.Context, key string) error
}

// Mover gives an object another key without copying it.
type Mover interface {
	// Move moves src to key, which must be free: else the error is [Exists].
	Move(ctx context.Context, src object.Ref, key string) (object.Entry, error)
}
