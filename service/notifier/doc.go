// Package notifier tells people what happened in a workspace (core/notify): it reads what happened from
// the history and the book of starts, so that whatever was written down there is told, however often
// it was killed in between, and puts each thing into the outbox once.
//
// It starts nothing and mends nothing.
package notifier
