// Package sample tries compressors on a part of the real content before all of it is packed: how small
// each makes it, and how fast, on one processor and on all, for each kind of file. It picks what it
// reads by kind and size, so that the part stands for the whole, and always the same of the same files.
//
// It never writes anything, and guesses nothing that it can measure.
package sample
