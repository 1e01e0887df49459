// Package starts is the book of the times at which jobs start by themselves: each is a row with a
// key that is there once (job, slot), written in one transaction with how far the job's schedule
// has been looked through. Whoever keeps the book may be killed at any moment: what is in it was
// taken, what is not will be found again, and nothing can be taken twice.
//
// It decides nothing: when a job starts is core/schedule's, whether it may is service/agenda's.
package starts
