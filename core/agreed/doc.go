// Package agreed remembers, for one job, what both sides looked like when they
// last agreed: per key the state of the object at the source and at the
// target. With that a plan tells what changed at the source from what changed
// at the target behind the job's back, and asks no place for it.
//
// It is a sorted file beside the job's plans, read in step with two catalogs,
// so that a million states cost a plan no more than a third catalog would. It
// holds facts that listings and finished transfers told, never content.
//
// Beside it, in a file of its own, lie the doubts: what a proof or a run found different and
// nobody has mended or refuted since. Nothing that is agreed on takes a doubt away.
package agreed
