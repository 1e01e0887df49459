// Package segment is the file form that catalogs and plans share: records
// sorted by key, in compressed frames, with a sparse index at the end, so that
// a file of millions of records is read as a stream or from any key on, in
// little memory.
//
// A file appears under its name only when it is whole. The package knows
// nothing of what the records mean and never changes a finished file.
//
// Layout, all numbers little-endian or uvarint:
//
//	magic                          8 bytes, the kind of file
//	frame …                        zstd, about 128 KiB of records each
//	footer                         zstd of JSON: meta, and of each frame its
//	                               first key, offset, length and record count
//	footer offset, footer length   8 bytes each
//	magic                          once more
//
// A record in a frame is: length of the key prefix shared with the record
// before, length of the rest of the key, that rest, length of the payload,
// payload. zstd's own checksum covers each frame.
package segment
