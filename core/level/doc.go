// Package level holds one level of a place, a bucket's top or a folder, while
// people look at it: as many rows as there are, five million or five, with any
// row at hand and next to nothing in memory. Rows are listed in the background,
// as far as somebody wants to see, into a file that goes away with the Level.
//
// It looks at nothing below the level and changes nothing.
package level
