// Package life is the life of what works for an interface: whatever goes on in it begins
// here, ends with it and is waited for. It never knows what goes on.
package life
