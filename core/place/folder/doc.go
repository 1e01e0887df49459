// Package folder is a place made of local folders and files.
//
// Nothing it does leaves the endpoint's root: every path goes through an
// [os.Root], and a listing never follows a symbolic link. Files appear whole or
// not at all: content goes to a temporary file in the same folder, which is
// then renamed. It never removes a folder, and never touches a file it was not
// asked for.
package folder
