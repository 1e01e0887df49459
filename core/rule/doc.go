// Package rule holds what the phrases of a job mean: which objects are taken,
// how "changed" is judged, what becomes of what is at the target already, and
// the guards that hold a plan back.
//
// It looks at entries and at nothing else: it reads no file, asks no place and
// keeps no state.
package rule
