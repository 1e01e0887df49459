// Package kit has what the views share: the state they are shown, the messages
// between them and the frame, and small parts to draw with. It does no work of
// its own; every figure comes from the service.
package kit
