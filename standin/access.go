package standin

import (
	"cmp"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"slices"
	"strings"
	"time"
)

// needs are the permissions a signed access must have for an operation, any
// one of them ("Create a service SAS", "Create an account SAS").
var needs = map[string]string{
	"ListContainers": "l", "CreateContainer": "cw", "DeleteContainer": "d", "ListBlobs": "l",
	"GetContainerProperties": "r",
	"GetBlob":                "r", "GetBlobProperties": "r", "GetBlockList": "r", "PutBlob": "cw", "PutBlock": "w",
	"PutBlockList": "w", "CopyBlob": "cw",
	"DeleteBlob": "dx", "SetBlobMetadata": "w", "SetBlobProperties": "w", "SetBlobTier": "w", "SnapshotBlob": "cw",
	"UndeleteBlob": "w",
	"GetBlobTags":  "t", "SetBlobTags": "t",
}

// authenticateAccess checks a signed access: an account's, a container's or a
// blob's.
func (s *Server) authenticateAccess(r *http.Request, account, container, blob, op string) *apiError {
	refuse := func(message string) *apiError { return fault(http.StatusForbidden, "AuthenticationFailed", message) }
	q := r.URL.Query()
	i := slices.IndexFunc(s.cfg.Keys, func(k Key) bool { return k.Access == account })
	if i < 0 {
		return refuse("there is no such account")
	}
	key, err := base64.StdEncoding.DecodeString(s.cfg.Keys[i].Secret)
	if err != nil {
		return refuse("the stand-in's own key is not base64")
	}
	lines := []string{q.Get("sp"), q.Get("st"), q.Get("se")}
	switch resource := "/blob/" + account + "/" + container; {
	case q.Has("ss"):
		lines = []string{account, q.Get("sp"), q.Get("ss"), q.Get("srt"), q.Get("st"), q.Get("se"), q.Get("sip"),
			q.Get("spr"), q.Get("sv"), q.Get("ses"), ""}
	case q.Get("sr") == "b" || q.Get("sr") == "bv" || q.Get("sr") == "bs":
		resource += "/" + blob
		fallthrough
	default:
		state := cmp.Or(q.Get("snapshot"), q.Get("versionid"))
		lines = append(lines, resource, q.Get("si"), q.Get("sip"), q.Get("spr"), q.Get("sv"), q.Get("sr"), state,
			q.Get("ses"),
			q.Get("rscc"), q.Get("rscd"), q.Get("rsce"), q.Get("rscl"), q.Get("rsct"))
		if container == "" {
			return refuse("this access is for a container")
		}
	}
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(strings.Join(lines, "\n")))
	if got, err := base64.StdEncoding.DecodeString(q.Get("sig")); err != nil || !hmac.Equal(got, mac.Sum(nil)) {
		return refuse("the signature does not match")
	}
	for _, x := range []struct {
		name  string
		wrong func(at time.Time) bool
	}{{"st", func(at time.Time) bool { return time.Now().Before(at) }},
		{"se", func(at time.Time) bool { return time.Now().After(at) }}} {
		if text := q.Get(x.name); text != "" {
			if at, err := time.Parse(time.RFC3339, text); err != nil || x.wrong(at) {
				return refuse("the access is not valid at this time")
			}
		}
	}
	if !strings.ContainsAny(q.Get("sp"), needs[op]) {
		return fault(http.StatusForbidden, "AuthorizationPermissionMismatch",
			"the access does not allow this operation")
	}
	return nil
}
