// Package history remembers runs and their measures in one SQLite file, so
// that they can be looked at over time. It keeps figures that were measured
// and nothing that can be worked out from them; it holds no content, no keys
// beyond a few examples of failures, and no secrets.
package history
