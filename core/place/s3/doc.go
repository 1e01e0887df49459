// Package s3 is a place in a store that speaks the S3 API.
//
// The hot calls (list, stat, read, write, part) are its own, on net/http with
// a request signer and a listing scanner made for the purpose; the
// cold ones (buckets, uploads, removal, copies) go through the SDK's client.
// It makes each request once: it never retries, splits or schedules, which is
// the transfer package's work.
//
// Rules about limits, headers and checksums are those of the Amazon S3 API
// Reference, API version 2006-03-01.
package s3
