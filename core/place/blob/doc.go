// Package blob is a place in a store that speaks the Azure Blob REST API.
//
// It uses the SDK's single calls, with the SDK's retries switched off: one
// call is one request, and splitting, retrying and scheduling are the transfer
// package's work.
//
// The service keeps a checksum of its own only for blobs written in one piece,
// and a slow one (MD5). So Lumtra writes the CRC-64/NVME of the whole content
// into the blob's metadata in the request that makes the blob; every piece is
// verified by the service as it arrives, by MD5.
//
// Rules about limits, names and block lists are those of the Blob service REST
// API reference.
package blob
