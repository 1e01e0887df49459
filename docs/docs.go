// Package docs is the project's documents as far as the program shows them: what a job and an
// endpoint can be told. It never holds text of its own.
package docs

import _ "embed"

// Texts of the topics of `lumtra help`.
var (
	//go:embed jobs.md
	Jobs string
	//go:embed endpoints.md
	Endpoints string
	//go:embed places.md
	Places string
	//go:embed proof.md
	Proof string
	//go:embed service.md
	Service string
	//go:embed packs.md
	Packs string
	//go:embed json.md
	JSON string
)
