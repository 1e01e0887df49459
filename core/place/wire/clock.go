package wire

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"time"

	"lumtra/core/place"
)

// Now asks the server at address for its time: whatever else it answers, the
// Date header says (RFC 9110, section 6.6.1).
func Now(ctx context.Context, client *http.Client, name, address string) (time.Time, error) {
	fail := func(kind place.ErrorKind, err error) (time.Time, error) {
		return time.Time{}, place.NewError(name, "reach", "", kind, err)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, address, nil)
	if err != nil {
		return fail(place.Other, errors.New("the address cannot be used"))
	}
	resp, err := client.Transport.RoundTrip(req)
	if err != nil {
		var urlErr *url.Error
		if errors.As(err, &urlErr) {
			err = urlErr.Err
		}
		if ctx.Err() != nil {
			return fail(place.Cancelled, nil)
		}
		return fail(place.Unreachable, err)
	}
	resp.Body.Close()
	at, err := http.ParseTime(resp.Header.Get("Date"))
	if err != nil {
		return fail(place.Other, errors.New("the server does not tell the time"))
	}
	return at, nil
}
