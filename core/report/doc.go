// Package report writes what was planned and done in forms that leave the
// house: CSV and JSON Lines for programs, SVG and PDF drawings for people. It
// reads plans and changes nothing; names from stores are escaped on the way
// out.
package report
