// Package agenda starts jobs at their times: it keeps the book of starts (core/starts) by the
// schedules of the jobs (core/schedule), and brings each start all the way by the one cycle.
//
// The desk decides and writes down, and can be asked with any clock; the agenda waits, carries out,
// and tells the desk how it went. Neither decides what a plan does, nor lets go what holds it back.
package agenda
