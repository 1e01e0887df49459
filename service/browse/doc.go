// Package browse is what a person looks at and does by hand: the levels of places, what is
// known of an object, acts on many of them, and the tray. It never plans or runs a job.
package browse
