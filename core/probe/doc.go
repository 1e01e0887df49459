// Package probe finds out by trying what an endpoint allows and can do: step by
// step, with an object of its own that it removes again, and with each refusal
// in words that say what to ask for.
//
// It touches nothing but that object, and writes only where it is told that it
// may.
package probe
