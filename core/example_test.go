package core_test

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"strings"

	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/ledger"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/rule"
	"lumtra/core/transfer"
)

// Two folders, and all the steps from looking at them to proof that the one holds what
// the other does. A store in place of a folder changes the opening and nothing else.
func Example() {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "saltmarsh-")
	must(err)
	defer os.RemoveAll(dir)
	open := func(name string) place.Place {
		must(os.Mkdir(filepath.Join(dir, name), 0o755))
		end, err := folder.OpenEndpoint(name, filepath.Join(dir, name), folder.Options{})
		must(err)
		p, err := end.Open("")
		must(err)
		return p
	}
	studio, archive := open("studio"), open("archive")
	for key, text := range map[string]string{"weir/dawn.wav": "redshank", "weir/dusk.wav": "curlew",
		"notes.txt": "low water 05:12"} {
		_, err := studio.Write(ctx, key, strings.NewReader(text), int64(len(text)), place.WriteOptions{})
		must(err)
	}

	// Survey: each place is listed into a catalog, a sorted file.
	survey := func(p place.Place) *catalog.Catalog {
		c, err := catalog.Survey(ctx, p, filepath.Join(dir, p.Name()+".catalog"), catalog.Options{})
		must(err)
		return c
	}
	from, to := survey(studio), survey(archive)

	// Plan: the job's rules, applied to two catalogs. Nothing has been touched yet.
	p, err := plan.Build(ctx, filepath.Join(dir, "0001.plan"), from, to,
		plan.Options{Job: "masters", Number: 1, Rules: rule.Default(), Source: studio.Abilities(),
			Target: archive.Abilities()})
	must(err)
	for c := p.Effects(""); c.Next(); {
		fmt.Println(c.Effect().Kind, c.Effect().Key, "because", c.Effect().Why())
	}

	// Run: the plan carried out, each step noted in a ledger, so that it can be gone on with.
	ledger, err := ledger.Open(filepath.Join(dir, "0001.ledger"), "masters", true)
	must(err)
	out, err := transfer.Run(ctx, p, studio, archive, ledger, &transfer.Meter{}, transfer.Options{Streams: 4})
	must(err)
	must(ledger.Close())
	fmt.Println("sent", out.Objects, "objects,", out.Failed, "failed")

	// Proof: both places as they are now, from fresh surveys.
	sum, err := proof.Run(ctx, filepath.Join(dir, "proof"), studio, archive, survey(studio), survey(archive),
		&proof.Progress{},
		proof.Options{Job: "masters", Number: 1, Method: compare.ByReadBack})
	must(err)
	fmt.Println("it holds:", sum.Holds())
	// Output:
	// add notes.txt because it is not at the target
	// add weir/dawn.wav because it is not at the target
	// add weir/dusk.wav because it is not at the target
	// sent 3 objects, 0 failed
	// it holds: true
}

func must(err error) {
	if err != nil {
		log.Fatal(err)
	}
}
