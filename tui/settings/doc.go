// Package settings is the view of a person's preferences: theme, units, time zone, what may be
// asked of the terminal, and keys. It writes the person's own file and nothing in the workspace.
package settings
