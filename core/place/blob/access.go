package blob

import (
	"errors"
	"net"
	"net/url"
	"strings"
	"time"

	"lumtra/core/place/kind"
)

var permissions = []struct {
	letter rune
	word   string
}{{'r', "read"}, {'l', "list"}, {'w', "write"}, {'c', "create"}, {'a', "append"}, {'d', "delete"},
	{'x', "delete versions"}, {'y', "delete permanently"},
	{'t', "tags"}, {'f', "find by tags"}, {'m', "move"}, {'e', "execute"}, {'i', "hold"}, {'u', "update"},
	{'p', "process"}}

// ParseAccess takes a signed address apart: the account's address, the query
// that is the secret, and what the query says of itself ("Create a service
// SAS", "Create an account SAS"). The error never holds the signature.
func ParseAccess(address string) (base, query string, access kind.Access, err error) {
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil || u.Host == "" {
		return "", "", access, errors.New("this is not an address with a signature")
	}
	base, _, access.Bucket, access.Blob = split(u)
	readAccess(&access, u.Query())
	if u.Query().Get("sig") == "" {
		return "", "", access, errors.New("the address has no signature (sig=…): copy all of it")
	}
	return base, u.RawQuery, access, nil
}

// split takes an address apart: the account's own address and name, and the container
// and blob that the rest of the path names. The account is the first label of the host,
// or, of servers without a name for each account, the first part of the path.
func split(u *url.URL) (base, account, bucket, name string) {
	segments := strings.SplitN(strings.Trim(u.Path, "/"), "/", 3)
	base = strings.ToLower(u.Scheme) + "://" + u.Host
	if hasAccountInPath(u.Hostname()) {
		if account, segments = segments[0], segments[1:]; account != "" {
			base += "/" + account
		}
	} else {
		account, _, _ = strings.Cut(u.Hostname(), ".")
	}
	if len(segments) > 0 {
		bucket, name = segments[0], strings.Join(segments[1:], "/")
	}
	return base, account, bucket, name
}

// accessOf reads what a signed access, the query of a signed address, says of
// itself.
func accessOf(query string) (access kind.Access) {
	if values, err := url.ParseQuery(strings.TrimPrefix(query, "?")); err == nil {
		readAccess(&access, values)
	}
	return access
}

// hasAccountInPath tells addresses of servers without a name for each account.
func hasAccountInPath(host string) bool {
	return net.ParseIP(host) != nil || !strings.Contains(host, ".")
}

func readAccess(a *kind.Access, q url.Values) {
	for _, p := range permissions {
		if strings.ContainsRune(q.Get("sp"), p.letter) {
			a.Allows = append(a.Allows, p.word)
		}
	}
	for name, at := range map[string]*time.Time{"st": &a.From, "se": &a.Until} {
		for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04Z", time.DateOnly} {
			if when, err := time.Parse(form, q.Get(name)); err == nil {
				*at = when
				break
			}
		}
	}
	a.Policy = q.Get("si")
}
