package object

import "slices"

// IsCold tells whether objects of the class have to be restored before they
// can be read (S3 API Reference, "StorageClass"; Blob API, "Set Blob Tier").
func IsCold(class string) bool {
	return class == "GLACIER" || class == "DEEP_ARCHIVE" || class == "Archive"
}

// readable are the classes of which every object can be read at once.
var readable = []string{"", "STANDARD", "REDUCED_REDUNDANCY", "STANDARD_IA", "ONEZONE_IA", "GLACIER_IR",
	"EXPRESS_ONEZONE", "Hot", "Cool", "Cold", "Premium"}

// MayBeCold tells that of every other class, too: in some, objects have to be restored and others
// not (S3 User Guide, "INTELLIGENT_TIERING"), and stores have classes of their own. What Stat says
// of an object decides then.
func MayBeCold(class string) bool { return !slices.Contains(readable, class) }
