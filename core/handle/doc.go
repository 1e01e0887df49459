// Package handle does one thing to many objects: removes, copies, moves or
// brings them back, changes their tags or metadata, empties a bucket. It first
// counts what there is, then acts, tells how far it is, and says of each object
// that it could not handle why.
//
// It acts within one endpoint and passes no content through where the place can
// do without. What goes from one endpoint to another is a plan's work.
package handle
