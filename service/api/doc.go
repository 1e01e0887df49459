// Package api is the background service as programs see it: JSON over HTTP below /v1, described as
// OpenAPI 3.1 (openapi.json), with server-sent events. Version 1 only ever gains; what it speaks are
// the types of package client.
//
// It approves nothing: what holds a plan back is a person's to let go, in the window or by a command.
package api
