package s3

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
)

// signing signs hot requests by Signature Version 4 (API Reference,
// "Authenticating Requests: Using the Authorization Header"). The SDK's own
// signer does the same for all other calls; it takes three times as long, which
// is what small objects spend most of their time on. Only the host and the
// x-amz- headers are signed: the rest is not the store's business to trust.
type signing struct {
	key    atomic.Pointer[signingKey] // of the day and credential used last
	second atomic.Pointer[second]     // that was written last
}

// signingKey is good for a day, a region and a secret.
type signingKey struct {
	day, region, secret string
	rooms               sync.Pool // of *signingRoom
}

// signingRoom is what a signature is worked out in.
type signingRoom struct {
	mac        hash.Hash // with the key set
	text, list []byte
}

func mac(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

// keyFor derives the key, or gives the one derived before.
func (s *signing) keyFor(day, region, secret string) *signingKey {
	if k := s.key.Load(); k != nil && k.day == day && k.region == region && k.secret == secret {
		return k
	}
	key := mac(mac(mac(mac([]byte("AWS4"+secret), day), region), "s3"), "aws4_request")
	k := &signingKey{day: day, region: region, secret: secret}
	k.rooms.New = func() any { return &signingRoom{mac: hmac.New(sha256.New, key)} }
	s.key.Store(k)
	return k
}

// compareFolded compares as the lower-case forms would.
func compareFolded(a, b string) int {
	for i := range min(len(a), len(b)) {
		if c := int(lowered(a[i])) - int(lowered(b[i])); c != 0 {
			return c
		}
	}
	return len(a) - len(b)
}

func lowered(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		c += 'a' - 'A'
	}
	return c
}

func appendLowered(b []byte, s string) []byte {
	for i := range len(s) {
		b = append(b, lowered(s[i]))
	}
	return b
}

// second is how a second is written in a signature.
type second struct {
	unix int64
	date string
}

// dateOf writes a time as a signature wants it; many requests are signed within a second.
func (s *signing) dateOf(now time.Time) string {
	last := s.second.Load()
	if last == nil || last.unix != now.Unix() {
		last = &second{now.Unix(), now.UTC().Format("20060102T150405Z")}
		s.second.Store(last)
	}
	return last.date
}

// sign adds the date, the token if there is one, and the signature. The
// request's query must be as the signature wants it: sorted, and encoded by
// RFC 3986.
func (s *signing) sign(r *http.Request, creds aws.Credentials, region, payload string, now time.Time) {
	date := s.dateOf(now)
	day := date[:8]
	r.Header["X-Amz-Date"] = []string{date}
	if creds.SessionToken != "" {
		r.Header["X-Amz-Security-Token"] = []string{creds.SessionToken}
	}
	names := make([]string, 1, 16)
	names[0] = "host"
	for name := range r.Header {
		if strings.HasPrefix(name, "X-Amz-") {
			names = append(names, name)
		}
	}
	// By lower-case names; all but the first have the same beginning.
	slices.SortFunc(names, compareFolded)

	key := s.keyFor(day, region, creds.SecretAccessKey)
	room := key.rooms.Get().(*signingRoom)
	defer key.rooms.Put(room)
	b := append(append(room.text[:0], r.Method...), '\n')
	b = append(append(b, r.URL.EscapedPath()...), '\n')
	b = append(append(b, r.URL.RawQuery...), '\n')
	list := room.list[:0]
	for i, name := range names {
		if i > 0 {
			list = append(list, ';')
		}
		list = appendLowered(list, name)
		b = append(appendLowered(b, name), ':')
		if name == "host" {
			b = append(b, r.Host...)
		} else {
			for i, value := range r.Header[name] {
				if i > 0 {
					b = append(b, ',')
				}
				b = appendTrimmed(b, value)
			}
		}
		b = append(b, '\n')
	}
	b = append(append(append(b, '\n'), list...), '\n')
	b = append(b, payload...)
	digest := sha256.Sum256(b)

	scope := day + "/" + region + "/s3/aws4_request"
	h := room.mac
	h.Reset()
	text := append(b[:0], "AWS4-HMAC-SHA256\n"...)
	text = append(append(text, date...), '\n')
	text = append(append(text, scope...), '\n')
	text = hex.AppendEncode(text, digest[:])
	h.Write(text)
	var signature [sha256.Size]byte
	h.Sum(signature[:0])

	text = append(text[:0], "AWS4-HMAC-SHA256 Credential="...)
	text = append(append(append(text, creds.AccessKeyID...), '/'), scope...)
	text = append(append(text, ", SignedHeaders="...), list...)
	text = append(text, ", Signature="...)
	text = hex.AppendEncode(text, signature[:])
	r.Header["Authorization"] = []string{string(text)}
	room.text, room.list = text, list
}

// appendTrimmed adds a header's value without blanks at its ends, and with one
// in place of several.
func appendTrimmed(b []byte, value string) []byte {
	value = strings.Trim(value, " \t")
	if !strings.Contains(value, "  ") {
		return append(b, value...)
	}
	blank := false
	for i := range len(value) {
		if value[i] != ' ' || !blank {
			b = append(b, value[i])
		}
		blank = value[i] == ' '
	}
	return b
}
