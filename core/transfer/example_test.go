package transfer_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"lumtra/core/catalog"
	"lumtra/core/ledger"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/transfer"
)

// A run that is taken up again does what is left, and asks the ledger what that is.
func ExampleRun() {
	ctx := context.Background()
	dir, _ := os.MkdirTemp("", "saltmarsh-")
	defer os.RemoveAll(dir)
	open := func(name string) (place.Place, *catalog.Catalog) {
		os.Mkdir(filepath.Join(dir, name), 0o755)
		end, err := folder.OpenEndpoint(name, filepath.Join(dir, name), folder.Options{})
		if err != nil {
			panic(err)
		}
		p, _ := end.Open("")
		if name == "studio" {
			for _, key := range []string{"dawn.wav", "dusk.wav", "storm.wav"} {
				p.Write(ctx, key, strings.NewReader(key), int64(len(key)), place.WriteOptions{})
			}
		}
		c, err := catalog.Survey(ctx, p, filepath.Join(dir, name+".catalog"), catalog.Options{})
		if err != nil {
			panic(err)
		}
		return p, c
	}
	studio, a := open("studio")
	archive, b := open("archive")
	p, err := plan.Build(ctx, filepath.Join(dir, "plan"), a, b,
		plan.Options{Rules: rule.Default(), Source: studio.Abilities(), Target: archive.Abilities()})
	if err != nil {
		panic(err)
	}
	run := func(opts transfer.Options) {
		ledger, err := ledger.Open(filepath.Join(dir, "ledger"), "print of the job", true)
		if err != nil {
			panic(err)
		}
		defer ledger.Close()
		opts.Streams = 1
		out, err := transfer.Run(ctx, p, studio, archive, ledger, &transfer.Meter{}, opts)
		fmt.Println(out.Objects, "sent,", out.Before, "there before", err)
	}
	run(transfer.Options{Only: func(effect int64) bool { return effect == 0 }}) // and then the power fails
	run(transfer.Options{})
	run(transfer.Options{})
	// Output:
	// 1 sent, 0 there before <nil>
	// 2 sent, 1 there before <nil>
	// 0 sent, 3 there before <nil>
}
