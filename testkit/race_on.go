//go:build race

package testkit

const racing = true
