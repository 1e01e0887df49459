// Package proof compares what is at the target with what is at the source,
// after the fact and from fresh surveys, and writes down what it found: a
// manifest with a checksum for each object, the differences, and a summary.
//
// It believes nothing a run said of itself, and it changes nothing but its own
// files.
package proof
