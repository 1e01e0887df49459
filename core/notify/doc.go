// Package notify tells people what happened while they did not look: by mail, by a web hook, or by a
// command. Messages wait in a durable outbox, are sent at least once under one id, and end as sent or
// as given up, never as forgotten.
//
// It decides nothing about jobs: what happened is handed in. It never runs a shell, and puts nothing
// from a store into a header or a terminal unescaped.
package notify
