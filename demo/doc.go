// Package demo builds the Saltmarsh Sound Archive, a made-up collection of
// field recordings: real folders with real generated files, a workspace with
// endpoints and jobs, and stand-in stores to copy to. Everything shown in the
// documentation comes from here. It runs nothing by itself but the story of
// Headless.
package demo
