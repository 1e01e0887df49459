// Package transfer carries out a plan: it streams contents from source to
// target, whole or in parts, many at a time, retries what can be retried, and
// writes down each finished object and part in a ledger before the next, so
// that a run which was killed goes on where it stood.
//
// It does what the plan says and nothing else. Every write is conditional on
// the state the plan saw, every read asks for that state, and what moved on
// since is reported, not overwritten. It decides nothing about what should be
// copied, and draws nothing.
package transfer
