// Package workspace keeps what a person sets up at hand: endpoints, opened and tested, the
// credentials they sign with and whether those may be used, job files, and the history. It
// never looks at what lies at a place, nor plans or runs.
package workspace
