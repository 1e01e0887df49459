// Package atomicfile replaces small files whole: whoever reads one has what was there or
// what was put there, also after a crash. It never changes a file in place.
package atomicfile
