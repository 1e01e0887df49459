// Package standin is a small object store on loopback that speaks the S3 API or,
// by choice, the Azure Blob API:
// for the demo, for tests and for practising without risk. It keeps everything
// on disk, checks signatures and checksums as a real store does, and misbehaves
// on demand (see [Fault]).
//
// It is a stand-in, not a product: one process, no replication, no fsync, no
// access rules beyond the keys, and removed content is given back to the disk
// only where it had a file of its own.
package standin
