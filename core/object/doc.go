// Package object holds the nouns of the trade: keys, entries, versions,
// checksums. It does no input or output, knows no store, and keeps no state;
// every other package of the core speaks in its words.
package object
