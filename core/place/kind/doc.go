// Package kind says what a kind of endpoint is: all that is to be known of it before one is
// opened. Each kind describes itself with a [Kind] in its own package, and package kinds
// lists them; whoever reads settings, fills in forms or opens endpoints asks the [Kind] and
// never its name.
//
// It opens nothing and reads no file: that is for the kinds, and for those who keep secrets.
package kind
