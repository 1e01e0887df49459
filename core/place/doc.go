// Package place says what Lumtra asks of anything that holds objects: a small
// interface every place implements, optional abilities found by type
// assertion, and one kind of error.
//
// The packages below it implement it: folder, s3. Nothing here knows a
// protocol, retries a request or decides what to copy; a place does what it is
// asked, once, and says precisely how that went.
package place
