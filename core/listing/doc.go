// Package listing lists a place over many connections at once. It finds
// prefixes as it goes, gives each its own listing, and puts the results
// together again in byte order of keys, so that it can stand wherever
// [place.Place.List] does.
//
// It keeps nothing and sorts nothing: what one listing yields in order stays in
// order.
package listing
