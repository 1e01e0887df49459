package client_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"lumtra/client"
	"lumtra/service"
	"lumtra/service/workspace"
	"lumtra/testkit"
)

// serve is a service of a small workspace with one job and a plan of it, and where its socket lies.
func serve() (socket string, stop func()) {
	dir, err := os.MkdirTemp("", "saltmarsh-")
	must(err)
	must(os.MkdirAll(filepath.Join(dir, "jobs"), 0o755))
	must(os.MkdirAll(filepath.Join(dir, "copy"), 0o755))
	must(os.MkdirAll(filepath.Join(dir, "studio"), 0o755))
	must(os.WriteFile(filepath.Join(dir, "studio", "dawn.wav"), []byte("dawn"), 0o644))
	must(os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		[]byte("title = \"Saltmarsh\"\n[endpoint.studio]\nkind = \"folder\"\n"+
			"path = \"studio\"\n[endpoint.copy]\nkind = \"folder\"\npath = \"copy\"\n"), 0o644))
	must(os.WriteFile(filepath.Join(dir, "jobs", "masters.toml"),
		[]byte("source = \"studio\"\ntarget = \"copy/masters\"\n"+
			"[when]\nstart = \"daily at 01:30\"\n"), 0o644))
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	must(err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() { ended <- s.Serve(ctx, service.ServeOptions{}) }()
	return filepath.Join(dir, "state", "service.sock"), func() {
		cancel()
		must(<-ended)
		must(s.Close())
		must(os.RemoveAll(dir))
	}
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}

// A program that has the service plan, carry the plan out, and prove it.
func Example() {
	socket, stop := serve()
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), testkit.Patience)
	defer cancel()

	c := client.Socket(socket)
	defer c.Close()
	for { // until it listens
		if _, err := c.About(ctx); err == nil {
			break
		}
		time.Sleep(10 * time.Millisecond) // as a program would, which has no testkit
	}
	jobs, err := c.Jobs(ctx)
	must(err)
	for _, j := range jobs {
		fmt.Printf("%s copies %s to %s, %s\n", j.Name, j.Source, j.Target, j.Starts)
	}
	p, err := c.Make(ctx, "masters", client.Make{})
	must(err)
	fmt.Printf("plan %d adds %d object, %d bytes\n", p.Number, p.Totals["add"].Count, p.Totals["add"].Bytes)

	for e, err := range c.Events(ctx) {
		must(err)
		switch e.Event {
		case "service-changed": // it listens: what is begun now is not missed
			must(c.Begin(ctx, "masters", client.Begin{Plan: p.Number}))
			continue
		case "run-ended":
			fmt.Println("the run is", e.Text)
		default:
			continue
		}
		break
	}
	runs, err := c.Runs(ctx, "masters")
	must(err)
	fmt.Println(runs[0].Objects, "object in", len(runs), "run")
	fmt.Println(c.Begin(ctx, "masters", client.Begin{Plan: p.Number}))
	proof, err := c.Prove(ctx, "masters", client.Prove{Method: "read-back"})
	must(err)
	fmt.Println("it holds:", proof.Holds, proof.Objects)
	// Output:
	// masters copies studio to copy/masters, every day at 01:30
	// plan 1 adds 1 object, 4 bytes
	// the run is done
	// 1 object in 1 run
	// nothing to do
	// it holds: true map[same:1]
}
