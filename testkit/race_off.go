//go:build !race

package testkit

const racing = false
