// Package state is the folder that Lumtra keeps to itself: where that of a workspace lies,
// and whether it may be worked with. A workspace may come from somebody else, so its state
// does not lie inside it, and a state folder with a link in it, or that others could write
// to, is refused before a file of it is opened. What the files hold is for others to know.
package state
