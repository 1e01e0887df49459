package placetest

import (
	"os"
	"strings"
)

// Server is a real server that the suite is to be held against.
type Server struct{ Name, Address, Access, Secret string }

// Servers are those of a protocol that `make interop` has started, which it names
// in LUMTRA_INTEROP_S3 or LUMTRA_INTEROP_BLOB: "name|address|access|secret", with
// blanks between them. None elsewhere: the other tests use the stand-in.
func Servers(protocol string) []Server {
	var all []Server
	for _, text := range strings.Fields(os.Getenv("LUMTRA_INTEROP_" + protocol)) {
		if f := strings.Split(text, "|"); len(f) == 4 {
			all = append(all, Server{f[0], f[1], f[2], f[3]})
		}
	}
	return all
}
