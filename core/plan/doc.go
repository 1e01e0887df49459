// Package plan decides what a run will do, before it does anything: it holds
// two catalogs side by side and writes an ordered list of effects, each with
// its reason and with the state of both sides that it rests on.
//
// A plan is a file. What runs is exactly the file, and nothing in this package
// touches a place, except that judging by content asks the comparer it was
// given.
package plan
