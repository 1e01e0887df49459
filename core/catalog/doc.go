// Package catalog keeps surveys: what a place held, key by key, in one sorted
// file that is written once and read as a stream. Two catalogs are walked side
// by side in one pass, so planning and proving need no more memory for ten
// million objects than for ten.
//
// It lists; it never reads content and never changes a place.
package catalog
