package standin

import (
	"crypto/md5"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"maps"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// Habit is a way in which a stand-in, always, does not do what the reference of
// its API says: real stores have such ways, and leave it to their clients to find
// out. Unlike a [Fault] it is no accident, and trying again does not help.
type Habit string

// The habits. What they say of "sums" is about the x-amz-checksum headers, of
// which MD5 is none.
const (
	BackslashFolds Habit = "backslash-folds"
	SlashesFold    Habit = "slashes-fold"
	DotsFold       Habit = "dots-fold"
	CaseFolds      Habit = "case-folds"
	AccentsFold    Habit = "accents-fold"
	EndsTrimmed    Habit = "ends-trimmed"
	// NonCharsChange is about names in listings alone: they are kept as they were.
	NonCharsChange Habit = "noncharacters-change"
	LineFeed404    Habit = "line-feed-404"

	PutUnconditional  Habit = "put-unconditional"
	JoinUnconditional Habit = "join-unconditional"
	CopyUnconditional Habit = "copy-unconditional"
	ConditionsRefused Habit = "conditions-refused"
	MatchUnquoted     Habit = "match-unquoted"
	MatchIgnored      Habit = "match-ignored"

	SumsIgnored     Habit = "sums-ignored"
	SumsRefused     Habit = "sums-refused"
	PartSumsRefused Habit = "part-sums-refused"
	TrailersRefused Habit = "trailers-refused"
	TrailersKept    Habit = "trailers-kept"
	MD5Ignored      Habit = "md5-ignored"
	PayloadIgnored  Habit = "payload-ignored"

	ETagsMD5    Habit = "etags-md5"
	ETagsOpaque Habit = "etags-opaque"
	JoinSilent  Habit = "join-silent"

	BatchNeedsMD5 Habit = "batch-needs-md5"
	BatchRefused  Habit = "batch-refused"

	RangesIgnored   Habit = "ranges-ignored"
	CopyRefused     Habit = "copy-refused"
	PartCopyRefused Habit = "part-copy-refused"
	TagsRefused     Habit = "tags-refused"
	WholeSeconds    Habit = "whole-seconds"
	ListingPlain    Habit = "listing-plain"
	ListingByFolder Habit = "listing-by-folder"
	MetadataDropped Habit = "metadata-dropped"
	MetadataStays   Habit = "metadata-stays"
	Metadata256     Habit = "metadata-256"
	TimesRoundUp    Habit = "times-round-up"
	ListingETags    Habit = "listing-etags"
	UploadsUndated  Habit = "uploads-undated"
	AnswersBare     Habit = "answers-bare"
	Forgets         Habit = "forgets"
)

// habitWords say what a stand-in with the habit does.
var habitWords = map[Habit]string{
	BackslashFolds:    `keeps "a\b" as "a/b"`,
	SlashesFold:       `keeps "a//b" as "a/b"`,
	DotsFold:          `keeps "a/./b" and "a/c/../b" as "a/b"`,
	CaseFolds:         `keeps "Ab" as "ab"`,
	AccentsFold:       "keeps every name in the composed form of Unicode",
	EndsTrimmed:       `keeps "a/" and "a." as "a"`,
	PutUnconditional:  "ignores conditions on writing",
	JoinUnconditional: "ignores conditions on joining parts",
	CopyUnconditional: "ignores conditions on what a copy replaces, and on what it is made of",
	ConditionsRefused: "answers 501 to conditional writes",
	MatchUnquoted:     "takes If-Match without quotes only",
	MatchIgnored:      "ignores If-Match on writing, and keeps to If-None-Match",
	SumsIgnored:       "neither verifies, keeps nor tells checksums",
	SumsRefused:       "refuses requests with checksums",
	PartSumsRefused:   "refuses a list of parts with their checksums",
	TrailersRefused:   "takes a body with a trailer for one badly signed",
	TrailersKept:      "stores a body with a trailer as it came, framing and all",
	MD5Ignored:        "does not hold content against Content-MD5",
	PayloadIgnored:    "does not hold content against the signed hash",
	ETagsMD5:          "makes ETags of MD5, of parts of their MD5s",
	ETagsOpaque:       "makes random ETags that look like MD5",
	JoinSilent:        "does not tell the ETag of an object joined of parts",
	BatchNeedsMD5:     "deletes many at once only with Content-MD5",
	BatchRefused:      "does not delete many at once",
	RangesIgnored:     "answers to a range with the whole",
	CopyRefused:       "does not copy",
	PartCopyRefused:   "does not copy ranges",
	TagsRefused:       "has no tags",
	WholeSeconds:      "tells times in whole seconds",
	ListingPlain:      "does not encode names in listings",
	ListingByFolder:   "lists what is below a/ before a-b and a.b",
	MetadataDropped:   "keeps no metadata",
	NonCharsChange:    "lists names with U+FFFE or U+FFFF as with U+FFFD",
	LineFeed404:       "answers 404 to names with a line feed",
	MetadataStays:     "keeps, with what is overwritten, metadata that the new object has not",
	Metadata256:       "answers 500 to metadata of more than 256 bytes a value",
	TimesRoundUp:      "tells times rounded up to the next second",
	ListingETags:      "lists what was copied inside it with another ETag than it tells of it alone",
	UploadsUndated:    "tells one fixed date of all unfinished uploads",
	AnswersBare:       "tells in answers what the reference requires, and no more",
	Forgets:           "takes content and keeps nothing of it",
}

// HabitsText lists all habits, a line each.
func HabitsText() string {
	var b strings.Builder
	for _, h := range slices.Sorted(maps.Keys(habitWords)) {
		fmt.Fprintf(&b, "  %-19s %s\n", h, habitWords[h])
	}
	return b.String()
}

// Habits are all there are, by name.
func Habits() []Habit { return slices.Sorted(maps.Keys(habitWords)) }

// ParseHabit reads a habit's name.
func ParseHabit(text string) (Habit, error) {
	if h := Habit(text); habitWords[h] != "" {
		return h, nil
	}
	return "", fmt.Errorf("there is no habit %q; there are\n%s", text, HabitsText())
}

// has tells whether the stand-in has a habit.
func (s *Server) has(h Habit) bool { return slices.Contains(s.cfg.Habits, h) }

// folded is the name a key is kept under.
func (s *Server) folded(key string) string {
	for _, h := range s.cfg.Habits {
		switch h {
		case BackslashFolds:
			key = strings.ReplaceAll(key, `\`, "/")
		case SlashesFold:
			for strings.Contains(key, "//") {
				key = strings.ReplaceAll(key, "//", "/")
			}
		case DotsFold:
			if end := strings.HasSuffix(key, "/"); key != "" {
				if key = strings.TrimPrefix(path.Clean("/"+key), "/"); end {
					key += "/"
				}
			}
		case CaseFolds:
			key = strings.ToLower(key)
		case AccentsFold:
			key = norm.NFC.String(key)
		case EndsTrimmed:
			key = strings.TrimRight(key, "/.")
		}
	}
	return key
}

// copied begins the ETags of what was copied by a stand-in that lists it with others.
const copied = "copied-"

// listed is an ETag as a listing tells it.
func (s *Server) listed(etag string) string {
	if s.has(ListingETags) {
		return strings.TrimPrefix(etag, copied)
	}
	return etag
}

// named is a key as a listing tells it.
func (s *Server) named(key string) string {
	if s.has(NonCharsChange) {
		return strings.NewReplacer("\ufffe", "\ufffd", "\uffff", "\ufffd").Replace(key)
	}
	return key
}

// takes refuses what a habit does not take to be written.
func (s *Server) takes(v *version) error {
	if s.has(LineFeed404) && strings.Contains(v.Key, "\n") {
		return fault(http.StatusNotFound, "NoSuchKey", "there is no such key")
	}
	for _, value := range v.Meta {
		if s.has(Metadata256) && len(value) > 256 {
			return fault(http.StatusInternalServerError, "InternalError", "We encountered an internal error")
		}
	}
	return nil
}

// stays puts the metadata of what is overwritten into what is not told to have other.
func (s *Server) stays(v, old *version) {
	if !s.has(MetadataStays) || old == nil || old.gone() {
		return
	}
	merged := maps.Clone(old.Meta)
	if merged == nil {
		merged = map[string]string{}
	}
	maps.Copy(merged, v.Meta)
	v.Meta = merged
}

// conditional are the operations with conditions that each habit ignores.
var unconditional = map[string]Habit{
	"PutObject": PutUnconditional, "PutBlob": PutUnconditional,
	"CompleteMultipartUpload": JoinUnconditional, "PutBlockList": JoinUnconditional,
	"CopyObject": CopyUnconditional, "CopyBlob": CopyUnconditional,
}

// refusedBy are the operations that a habit leaves out.
var refusedBy = map[string]Habit{
	"CopyObject": CopyRefused, "UploadPartCopy": PartCopyRefused, "CopyBlob": CopyRefused,
	"DeleteObjects":    BatchRefused,
	"GetObjectTagging": TagsRefused, "PutObjectTagging": TagsRefused, "GetBlobTags": TagsRefused,
	"SetBlobTags": TagsRefused,
}

// accustom changes an authenticated request to what the stand-in sees of it, or
// refuses it.
func (s *Server) accustom(r *http.Request, op string) error {
	if len(s.cfg.Habits) == 0 {
		return nil
	}
	h := r.Header
	habit, writes := unconditional[op]
	conditional := h.Get("If-Match") != "" || h.Get("If-None-Match") != ""
	switch {
	case refusedBy[op] != "" && s.has(refusedBy[op]):
		return fault(http.StatusNotImplemented, "NotImplemented", "there is no such operation here")
	case writes && conditional && s.has(ConditionsRefused):
		return fault(http.StatusNotImplemented, "NotImplemented",
			"A header you provided implies functionality that is not implemented")
	case op == "DeleteObjects" && s.has(BatchNeedsMD5) && h.Get("Content-Md5") == "":
		return fault(http.StatusBadRequest, "InvalidRequest", "Missing required header for this request: Content-MD5")
	case s.has(TrailersRefused) && strings.HasSuffix(h.Get("X-Amz-Content-Sha256"), "-TRAILER"):
		return fault(http.StatusForbidden, "SignatureDoesNotMatch", "the signature is not that of this request")
	}
	if writes && (s.has(habit) || s.has(MatchIgnored)) {
		h.Del("If-Match")
	}
	if writes && s.has(habit) {
		h.Del("If-None-Match")
	}
	if s.has(RangesIgnored) {
		h.Del("Range")
		h.Del("X-Ms-Range")
	}
	if s.has(MD5Ignored) {
		h.Del("Content-Md5")
		h.Del("X-Ms-Content-Crc64")
	}
	for name := range h {
		if s.has(MetadataDropped) && (strings.HasPrefix(name, "X-Amz-Meta-") || strings.HasPrefix(name, "X-Ms-Meta-")) {
			h.Del(name)
		}
	}
	return s.accustomSums(r)
}

// accustomSums does what is about checksums.
func (s *Server) accustomSums(r *http.Request) error {
	for name := range r.Header {
		sum := strings.HasPrefix(name, sumPrefix) && name != sumPrefix+"Mode" || name == "X-Amz-Sdk-Checksum-Algorithm"
		switch {
		case sum && s.has(SumsRefused):
			return fault(http.StatusBadRequest, "InvalidRequest", "the header "+name+" is not known here")
		case sum && s.has(SumsIgnored):
			r.Header.Del(name)
		}
	}
	if payload := r.Header.Get("X-Amz-Content-Sha256"); s.has(PayloadIgnored) && len(payload) == 64 {
		r.Header.Set("X-Amz-Content-Sha256", "UNSIGNED-PAYLOAD")
	}
	return nil
}

// tells whether checksums are kept with objects and told.
func (s *Server) tells() bool { return !s.has(SumsIgnored) && !s.has(SumsRefused) }

// told is a checksum as an answer to a write has it: "" where none are told.
func (s *Server) told(sum string) string {
	if !s.tells() || s.has(AnswersBare) {
		return ""
	}
	return sum
}

// matches holds an If-Match against an ETag.
func (s *Server) matches(header, etag string) bool {
	if s.has(MatchUnquoted) {
		return header == etag
	}
	return strings.Trim(header, `"`) == etag
}

// etagOf is the ETag of a content with this checksum, size and MD5.
func (s *Server) etagOf(sum []byte, size int64, digest []byte) string {
	switch {
	case s.has(ETagsMD5):
		return hex.EncodeToString(digest)
	case s.has(ETagsOpaque):
		var b [16]byte
		rand.Read(b[:])
		return hex.EncodeToString(b[:])
	}
	// An opaque tag made of the content; MD5 would cost more than all the rest.
	return fmt.Sprintf("%x%x", sum, size)
}

// joinedETag is the ETag of an object joined of parts with these ETags.
func (s *Server) joinedETag(sum string, size int64, parts []string) string {
	if !s.has(ETagsMD5) && !s.has(ETagsOpaque) {
		return fmt.Sprintf("%s%x-%d", sum, size, len(parts))
	}
	h := md5.New()
	for _, etag := range parts {
		raw, _ := hex.DecodeString(etag)
		h.Write(raw)
	}
	return s.etagOf(nil, 0, h.Sum(nil)) + "-" + strconv.Itoa(len(parts))
}
