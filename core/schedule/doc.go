// Package schedule says when a job is to start: rules as text, the times that follow from them,
// and what becomes of times that were missed or that come while the job is still at work.
//
// It is pure: it has no clock, opens no file and starts nothing. The same rule, zone and moment
// always give the same next time, so that whoever keeps the book of starts can be killed at any
// moment and find the same times again.
//
// # Clocks that change
//
// A rule speaks of times on the wall of its zone. Such a time can be missing (clocks go forward) or
// be there twice (clocks go back). One rule holds for all that name a time of the day (days at a
// time, cron expressions that name hours, recurrence rules): a time that is missing starts when the
// gap ends, and a time that is there twice starts at the first of both. What goes by elapsed time
// ("every 15 minutes", cron expressions with "*" for the hour) goes on evenly through both.
//
// Days are those of the Gregorian calendar; a rule for the 29th of February, or for a fifth Friday,
// starts where there is one. Zones are those of the machine's time zone database as it was when the
// zone was loaded; when its rules change, times that were planned by the old ones and have not come
// yet are planned anew.
package schedule
