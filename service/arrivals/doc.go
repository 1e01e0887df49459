// Package arrivals watches the sources of the jobs that start when something comes (core/arrive), and
// says which job something came for. It starts nothing itself.
package arrivals
