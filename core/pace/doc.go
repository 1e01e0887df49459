// Package pace holds transfers to the speed that was asked for: by the hours of
// a week, and fairly among all that share a limit. It knows bytes and times and
// nothing of what is transferred.
package pace
