package arrive

import (
	"crypto/subtle"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
)

// mostEvent is how large an event message may be.
const mostEvent = 1 << 20

// Event is an object that a store says was made.
type Event struct{ Bucket, Key string }

// ReadEvents reads event messages of the S3 form: {"Records": [{"eventName": "ObjectCreated:Put",
// "s3": {"bucket": {"name": …}, "object": {"key": …}}}]}, with keys encoded as in a query (S3 user
// guide, "Event message structure"). What tells of other than made objects is passed over.
func ReadEvents(r io.Reader) ([]Event, error) {
	var doc struct {
		Records []struct {
			EventName string `json:"eventName"`
			S3        struct {
				Bucket struct {
					Name string `json:"name"`
				} `json:"bucket"`
				Object struct {
					Key string `json:"key"`
				} `json:"object"`
			} `json:"s3"`
		}
	}
	if err := json.NewDecoder(io.LimitReader(r, mostEvent)).Decode(&doc); err != nil {
		return nil, err
	}
	var all []Event
	for _, rec := range doc.Records {
		name := strings.TrimPrefix(rec.EventName, "s3:")
		if !strings.HasPrefix(name, "ObjectCreated") && !strings.HasPrefix(name, "ObjectRestore:Completed") {
			continue
		}
		key, err := url.QueryUnescape(rec.S3.Object.Key)
		if err != nil {
			key = rec.S3.Object.Key
		}
		all = append(all, Event{rec.S3.Bucket.Name, key})
	}
	return all, nil
}

// tokenOf is the token that a request brings: as "Authorization: Bearer TOKEN", as the password of
// Basic authentication, or, for stores that can only be given an address, as ?token=TOKEN.
func tokenOf(r *http.Request) string {
	if given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return given
	}
	if _, password, ok := r.BasicAuth(); ok {
		return password
	}
	return r.URL.Query().Get("token")
}

// Receiver takes event messages over HTTP, with a token.
func Receiver(token string, came func([]Event)) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if token == "" || subtle.ConstantTimeCompare([]byte(tokenOf(r)), []byte(token)) != 1 {
			http.Error(w, "the token is wrong, or missing", http.StatusUnauthorized)
			return
		}
		if r.Method != http.MethodPost {
			w.WriteHeader(http.StatusOK) // stores ask whether anybody is there
			return
		}
		all, err := ReadEvents(r.Body)
		if err != nil {
			http.Error(w, "this is no event message", http.StatusBadRequest)
			return
		}
		came(all)
		w.WriteHeader(http.StatusNoContent)
	})
}
