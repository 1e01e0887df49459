// Package placetest is the conformance suite of [place.Place]: one list of
// demands that every implementation is run against, on stand-ins and on real
// servers. What passes here can be planned, transferred and proven.
package placetest
