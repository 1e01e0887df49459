// Package room lends memory for pieces of content that are sent from there. It
// knows how many bytes are wanted and nothing of what they are.
package room
