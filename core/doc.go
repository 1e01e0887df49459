// Package core holds nothing itself: below it lie the rooms in which data flows one way,
//
//	place → survey → catalog → plan → run → proof
//
// and no interface code. The example here goes through all of it; those of the packages
// place, segment, catalog, plan, transfer and proof show each step by itself, and can be
// read in that order.
package core
