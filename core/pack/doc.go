// Package pack makes many small files one object, and reads single ones out of it: a pack is an
// ordinary archive (POSIX.1-2001 pax, plain or in frames of Zstandard or gzip) with an index behind
// it, in the same object, where plain tools pass over it. docs/packs.md has the layout byte by byte.
//
// A [Writer] makes one as a stream, with bounded memory; [Open] finds what is in one with a few
// requests and reads a member with one more; [Place] has the inside of a pack be a place like any
// other, to be listed, read, compared and proved.
//
// [Change], [Drop] and [Rewrite] are for what is done by hand. Written anew inside a store, a pack is never
// looked through: runs.go finds from the index which stretches stay, and compact.go has the store copy them.
//
// The package never puts content on this machine's disk; only
// records of the index that is being made lie there until it is whole.
package pack
