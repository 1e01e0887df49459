// Package nearest finds what somebody meant by a name that is not known: the most alike of
// those that are. It never chooses for them.
package nearest
