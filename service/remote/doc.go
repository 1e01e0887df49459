// Package remote has runs carried out by another process of this machine, the background
// service, and seen and steered from here. It is the only place that knows the socket and
// what goes over it; it never carries out anything itself.
package remote
