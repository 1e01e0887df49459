// Package client talks to the background service of a Lumtra workspace: which jobs there are, what is
// planned, running, proven and coming, what happens as it happens, and a run to begin or to steer.
//
// It goes over the service's socket, or over TLS with a token (lumtra service --api). What it speaks is
// described as OpenAPI 3.1 by the service itself, at /v1/openapi.json; version 1 only ever gains.
// It imports nothing else of Lumtra.
package client
