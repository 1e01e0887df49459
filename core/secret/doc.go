// Package secret keeps credentials out of sight. In memory they are in a type
// that never prints itself; at rest they are encrypted ([Store]); or they stay
// where they are and only a reference is written down ([Resolve]).
//
// It never shows a secret again once it has been taken in: a fingerprint tells
// it from others.
package secret
