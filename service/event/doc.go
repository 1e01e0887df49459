// Package event tells whoever wants to know what changes: a plan was made, a run began, an
// endpoint is another. Each change is published once, by what changed it. An event says that
// something is other now and where to look; it never carries the state itself.
package event
