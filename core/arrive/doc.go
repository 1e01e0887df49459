// Package arrive finds out that something came: a file in a folder that has stopped growing, or an
// object in a store. It says that something came and what has not come yet; it copies nothing.
package arrive
