// Package weblist is a place made of a list of web addresses: a CSV or text
// file says where each object lies, and the objects are read over HTTP. It can
// only be read.
//
// Objects are described by HEAD and read by GET with ranges (RFC 9110); their
// ETag is kept, so that one that changes while it is read is noticed. An
// address may carry a signature in its query: no message ever shows a query.
package weblist
