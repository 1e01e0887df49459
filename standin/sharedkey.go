package standin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

// authenticateBlob checks a Shared Key signature ("Authorize with Shared Key",
// for the Blob service). A key's Access is the account, its Secret the account
// key in base64.
func (s *Server) authenticateBlob(r *http.Request, account, container, blob, op string) *apiError {
	if s.cfg.Public {
		return nil
	}
	if r.URL.Query().Has("sig") {
		return s.authenticateAccess(r, account, container, blob, op)
	}
	credential, ok := strings.CutPrefix(r.Header.Get("Authorization"), "SharedKey ")
	if !ok {
		return fault(http.StatusUnauthorized, "NoAuthenticationInformation", "the request is not signed")
	}
	name, signature, _ := strings.Cut(credential, ":")
	i := slices.IndexFunc(s.cfg.Keys, func(k Key) bool { return k.Access == name })
	if i < 0 || name != account {
		return fault(http.StatusForbidden, "AuthenticationFailed", "there is no such account")
	}
	if at, err := http.ParseTime(r.Header.Get("X-Ms-Date")); err != nil || time.Since(at).Abs() > maxSkew {
		return fault(http.StatusForbidden, "AuthenticationFailed", "the clocks differ by more than 15 minutes")
	}
	key, err := base64.StdEncoding.DecodeString(s.cfg.Keys[i].Secret)
	if err != nil {
		return fault(http.StatusInternalServerError, "InternalError", "the stand-in's own key is not base64")
	}
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(stringToSign(r, account)))
	if got, err := base64.StdEncoding.DecodeString(signature); err != nil || !hmac.Equal(got, mac.Sum(nil)) {
		return fault(http.StatusForbidden, "AuthenticationFailed",
			"the signature does not match; check the account key")
	}
	return nil
}

// stringToSign is what a Shared Key signature covers.
func stringToSign(r *http.Request, account string) string {
	h := r.Header
	length := h.Get("Content-Length")
	if r.ContentLength > 0 {
		length = strconv.FormatInt(r.ContentLength, 10)
	}
	lines := []string{r.Method, h.Get("Content-Encoding"), h.Get("Content-Language"), length, h.Get("Content-Md5"),
		h.Get("Content-Type"), "",
		h.Get("If-Modified-Since"), h.Get("If-Match"), h.Get("If-None-Match"), h.Get("If-Unmodified-Since"),
		h.Get("Range")}
	if length == "0" {
		lines[3] = ""
	}
	var own []string
	for name, values := range h {
		if lower := strings.ToLower(name); strings.HasPrefix(lower, "x-ms-") {
			own = append(own, lower+":"+strings.TrimSpace(strings.Join(values, ",")))
		}
	}
	slices.SortFunc(own, func(a, b string) int {
		x, _, _ := strings.Cut(a, ":")
		y, _, _ := strings.Cut(b, ":")
		return strings.Compare(x, y)
	})
	lines = append(lines, own...)
	resource := "/" + account + r.URL.EscapedPath()
	var params []string
	for name, values := range r.URL.Query() {
		sorted := slices.Clone(values)
		slices.Sort(sorted)
		params = append(params, "\n"+strings.ToLower(name)+":"+strings.Join(sorted, ","))
	}
	slices.Sort(params)
	return strings.Join(append(lines, resource+strings.Join(params, "")), "\n")
}
