// Package testkit is what all tests share, so that a test says the same on every machine and each
// time: what is drawn goes by one seed ([Seed], [Check], [Dice]), as many cases are drawn as are
// told ([Draws], [Number]), and what comes when it comes is waited for, by one patience ([Until],
// [Patience]). It knows nothing of Lumtra, and no program imports it. `tools/tests` holds the tests
// to it.
package testkit
