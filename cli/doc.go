// Package cli is the command line: every step of the work as a command, with
// text for people and, with --json, one JSON object a line for programs. It
// reaches the work only through the service package.
package cli
