// Package ledger keeps what the runs of a plan have done, effect by effect, so that the next
// run goes on from there and a killed one loses nothing that counts. Effects are known by
// their number in the plan. It never decides anything about an object.
package ledger
