package standin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Key is one pair of credentials the stand-in accepts.
type Key struct {
	Access, Secret string
	// Token, when not "", must come with each request, as with temporary
	// credentials.
	Token string
}

const (
	timeForm = "20060102T150405Z"
	maxSkew  = 15 * time.Minute
)

// authenticate checks an AWS Signature Version 4 in the Authorization header or
// in the query (API Reference, "Authenticating Requests").
func (s *Server) authenticate(r *http.Request) *apiError {
	if s.cfg.Public {
		return nil
	}
	query := r.URL.Query()
	var credential, signed, signature, when, token, payload string
	presigned := query.Get("X-Amz-Signature") != ""
	if presigned {
		credential, signed, signature = query.Get("X-Amz-Credential"), query.Get("X-Amz-SignedHeaders"),
			query.Get("X-Amz-Signature")
		when, token, payload = query.Get("X-Amz-Date"), query.Get("X-Amz-Security-Token"), "UNSIGNED-PAYLOAD"
		query.Del("X-Amz-Signature")
	} else {
		fields, ok := strings.CutPrefix(r.Header.Get("Authorization"), "AWS4-HMAC-SHA256 ")
		if !ok {
			return fault(http.StatusForbidden, "AccessDenied", "the request is not signed")
		}
		for _, f := range strings.Split(fields, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(f), "=")
			switch name {
			case "Credential":
				credential = value
			case "SignedHeaders":
				signed = value
			case "Signature":
				signature = value
			}
		}
		when, token, payload = r.Header.Get("X-Amz-Date"), r.Header.Get("X-Amz-Security-Token"),
			r.Header.Get("X-Amz-Content-Sha256")
	}
	scope := strings.SplitN(credential, "/", 2)
	var key *Key
	for i := range s.cfg.Keys {
		if s.cfg.Keys[i].Access == scope[0] {
			key = &s.cfg.Keys[i]
		}
	}
	at, err := time.Parse(timeForm, when)
	switch {
	case key == nil || len(scope) != 2:
		return fault(http.StatusForbidden, "InvalidAccessKeyId", "there is no such access key")
	case key.Token != token:
		return fault(http.StatusForbidden, "InvalidToken", "the session token is not the one given out")
	case err != nil:
		return fault(http.StatusForbidden, "AccessDenied", "the request has no date")
	}
	now := time.Now()
	if presigned {
		seconds, err := strconv.Atoi(query.Get("X-Amz-Expires"))
		if err != nil || now.After(at.Add(time.Duration(seconds)*time.Second)) {
			return fault(http.StatusForbidden, "AccessDenied", "the request has expired")
		}
	} else if now.Sub(at).Abs() > maxSkew {
		return fault(http.StatusForbidden, "RequestTimeTooSkewed", "the clocks differ by more than 15 minutes")
	}
	if want := sign(key.Secret, scope[1], when, canonical(r, query, signed, payload)); !hmac.Equal([]byte(want),
		[]byte(signature)) {
		return fault(http.StatusForbidden, "SignatureDoesNotMatch", "the signature does not match; check the secret")
	}
	return nil
}

// canonical is the canonical request of Signature Version 4.
func canonical(r *http.Request, query url.Values, signed, payload string) string {
	var b strings.Builder
	b.WriteString(r.Method + "\n" + strict(r.URL.Path, true) + "\n")
	names := make([]string, 0, len(query))
	for n := range query {
		names = append(names, n)
	}
	slices.Sort(names)
	for i, n := range names {
		values := slices.Clone(query[n])
		slices.Sort(values)
		for j, v := range values {
			if i+j > 0 {
				b.WriteByte('&')
			}
			b.WriteString(strict(n, false) + "=" + strict(v, false))
		}
	}
	b.WriteByte('\n')
	for _, n := range strings.Split(signed, ";") {
		value := strings.Join(r.Header.Values(n), ",")
		switch n {
		case "host":
			value = r.Host
		case "content-length":
			value = strconv.FormatInt(r.ContentLength, 10)
		}
		b.WriteString(n + ":" + strings.Join(strings.Fields(value), " ") + "\n")
	}
	b.WriteString("\n" + signed + "\n" + payload)
	return b.String()
}

func sign(secret, scope, when, request string) string {
	mac := func(key []byte, text string) []byte {
		h := hmac.New(sha256.New, key)
		h.Write([]byte(text))
		return h.Sum(nil)
	}
	key := []byte("AWS4" + secret)
	for _, step := range strings.Split(scope, "/") {
		key = mac(key, step)
	}
	digest := sha256.Sum256([]byte(request))
	return hex.EncodeToString(mac(key, "AWS4-HMAC-SHA256\n"+when+"\n"+scope+"\n"+hex.EncodeToString(digest[:])))
}

// strict percent-encodes all but unreserved characters, and "/" if kept.
func strict(s string, keepSlash bool) string {
	const digits = "0123456789ABCDEF"
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		if 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' ||
			strings.IndexByte("-_.~", c) >= 0 || c == '/' && keepSlash {
			b.WriteByte(c)
		} else {
			b.Write([]byte{'%', digits[c>>4], digits[c&15]})
		}
	}
	return b.String()
}
