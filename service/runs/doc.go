// Package runs carries out plans that were made ready: it lets runs begin, shares among them
// what their endpoints allow, takes what a person changes about one under way, and keeps the
// history's record of each. It never plans, and decides nothing about an object.
package runs
