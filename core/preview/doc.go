// Package preview makes something to look at of an object's first bytes: lines
// of text, a table of CSV or JSON, a picture in cells, the facts of audio, the
// list of an archive, or bytes in hexadecimal.
//
// It reads what it is given, never writes, and trusts nothing: sizes inside
// files are bounded, and all text comes out as it went in, for the caller to
// escape.
package preview
