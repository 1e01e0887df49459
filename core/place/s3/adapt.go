package s3

import (
	"errors"
	"net/http"
	"slices"
	"strings"

	"lumtra/core/place"
)

// turnedAway are the codes by which stores refuse how something was asked. They
// are said of other things too, so that they count only for what is not known to
// work.
var turnedAway = []string{"InvalidRequest", "InvalidArgument", "MissingContentMD5", "MalformedXML",
	"MalformedPOSTRequest", "MalformedTrailerError",
	"InvalidTrailer", "MissingContentLength", "UnsupportedArgument", "UnexpectedContent", "BadRequest",
	"InvalidDigest", "XAmzContentSHA256Mismatch",
	"XAmzContentChecksumMismatch", "IncompleteBody"}

// notDone are those by which they say that they have no such thing.
var notDone = []string{"NotImplemented", "XNotImplemented", "UnsupportedHeader", "UnsupportedOperation",
	"MethodNotAllowed"}

// adapt looks whether a refusal is about one of the asks a request was made with.
// Then that is learned, and the error says that the same, asked again, goes
// another way; else the error is as it was.
func (p *Place) adapt(err error, asks ...place.Ask) error {
	var e *place.Error
	if !errors.As(err, &e) || e.Place != p.name {
		return err
	}
	other := *e
	for _, a := range asks {
		if p.store.known.Lacks(a) { // another request has learned it meanwhile
			other.Kind = place.Otherwise
			return &other
		}
	}
	a := p.culprit(e, asks)
	if a == "" {
		return err
	}
	p.store.known.Learn(a, place.Refused)
	other.Kind = place.Otherwise
	return &other
}

// culprit is the ask that a refusal is most likely about, "" for none.
func (p *Place) culprit(e *place.Error, asks []place.Ask) place.Ask {
	k := p.store.known
	plainly := e.Status == http.StatusNotImplemented || e.Status == http.StatusMethodNotAllowed ||
		slices.Contains(notDone, e.Code)
	vaguely := e.Status >= 400 && e.Status < 500 && (slices.Contains(turnedAway, e.Code) || e.Code == "" &&
		e.Status != http.StatusForbidden && e.Status != http.StatusNotFound &&
		e.Status != http.StatusPreconditionFailed && e.Status != http.StatusConflict)
	var open []place.Ask
	for _, a := range asks {
		if plainly || !k.Does(a) {
			open = append(open, a)
		}
	}
	if len(open) == 0 {
		return ""
	}
	// A body in an unknown coding looks badly signed, or cut short.
	if i := slices.Index(open, place.SumBehind); i >= 0 && (e.Code == "SignatureDoesNotMatch" || vaguely) {
		return open[i]
	}
	if !plainly && !vaguely {
		return ""
	}
	if strings.Contains(e.Error(), "header you provided") || plainly {
		// Conditional writes are what stores most often say this of.
		for _, a := range open {
			if isCondition(a) {
				return a
			}
		}
	}
	return open[0]
}

func isCondition(a place.Ask) bool {
	switch a {
	case place.PutIfAbsent, place.PutIfStill, place.JoinIfAbsent, place.JoinIfStill, place.CopyIfAbsent,
		place.CopyIfStill:
		return true
	}
	return false
}
