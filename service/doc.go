// Package service is what an interface works with: it knows the workspace and
// where state lies, opens endpoints, and turns the core's steps (survey, plan,
// run, prove) into calls by a job's name. The terminal interface and the
// commands reach the work only through it.
//
// It draws nothing and decides nothing about content; that is the core's.
package service
