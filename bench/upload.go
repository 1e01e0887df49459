package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/place/s3"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/secret"
	"lumtra/core/transfer"
)

// upload is one comparison: the same bytes sent by plain PUTs from memory, and
// by Lumtra's engine from files, with checksums, conditions, signatures and
// ledger. The stand-in is a process of its own, the same for both.
type upload struct {
	name    string
	object  int64
	count   int
	part    int64 // 0: objects are sent whole
	streams int
}

const rounds = 3

var ctx = context.Background()

func (u upload) measure(dir, program string) error {
	defer os.RemoveAll(dir)
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	var floors, signed, ours []time.Duration
	var floorCPU, oursCPU time.Duration
	for round := range rounds {
		steps := []func(string) error{
			func(addr string) error { return timed(&floors, &floorCPU, func() error { return u.floor(addr, nil) }) },
			func(addr string) error {
				return timed(&signed, nil, func() error { return u.floor(addr, newSigner()) })
			},
			func(addr string) error { return u.engine(dir, addr, &ours, &oursCPU) },
		}
		for i := range steps { // the order rotates
			if err := onFreshStore(program, filepath.Join(dir, "store"), steps[(i+round)%len(steps)]); err != nil {
				return err
			}
		}
	}
	total := float64(u.object) * float64(u.count)
	show := func(name string, d time.Duration) {
		fmt.Printf("  %-34s %7.2f s  %8.0f MB/s  %8.0f objects/s\n", name, d.Seconds(), total/1e6/d.Seconds(), float64(u.count)/d.Seconds())
	}
	fmt.Printf("Folder to stand-in, %s, %d streams (median of %d)\n", u.name, u.streams, rounds)
	show("floor: plain PUTs from memory", median(floors))
	show("floor, signed by the SDK's signer", median(signed))
	show("Lumtra", median(ours))
	fmt.Printf("  %-34s %7.2f of the plain floor, %.2f of the signed one; client CPU %.2f times the plain floor's\n\n", "ratio",
		median(floors).Seconds()/median(ours).Seconds(), median(signed).Seconds()/median(ours).Seconds(), oursCPU.Seconds()/floorCPU.Seconds())
	return nil
}

func timed(into *[]time.Duration, cpu *time.Duration, f func() error) error {
	before, began := cpuTime(), time.Now()
	err := f()
	*into = append(*into, time.Since(began))
	if cpu != nil {
		*cpu += cpuTime() - before
	}
	return err
}

// cpuTime is what this process has used.
func cpuTime() time.Duration {
	var r syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &r) != nil {
		return 0
	}
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}

func (u upload) fill(dir string) error {
	data := make([]byte, u.object)
	rand.NewChaCha8([32]byte{1}).Read(data)
	for i := range u.count {
		name := filepath.Join(dir, fmt.Sprintf("%03d/%06d.wav", i/256, i))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// onFreshStore starts a stand-in process with one bucket, runs f and ends it.
func onFreshStore(program, dir string, f func(addr string) error) error {
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	cmd := exec.Command(program, "stand-in", dir)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	defer func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	}()
	line := make([]byte, 200)
	n, err := out.Read(line)
	if err != nil {
		return err
	}
	_, rest, _ := strings.Cut(string(line[:n]), "Listening on ")
	addr, _, _ := strings.Cut(rest, ";")
	store, err := s3.NewStore(s3.Config{Name: "bench", Address: addr})
	if err != nil {
		return err
	}
	defer store.Close()
	if err := store.MakeBucket(ctx, "bench"); err != nil {
		return err
	}
	syscall.Sync() // what the round before wrote is not this one's
	return f(addr)
}

// floor sends the bytes with net/http and nothing else, optionally signed.
func (u upload) floor(addr string, sign func(*http.Request) error) error {
	size := u.object
	if u.part > 0 {
		size = u.part
	}
	data := make([]byte, size)
	rand.NewChaCha8([32]byte{1}).Read(data)
	n := int(u.object / size * int64(u.count))
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: u.streams, WriteBufferSize: 128 << 10, DisableCompression: true}}
	defer client.CloseIdleConnections()
	work := make(chan int)
	errs := make([]error, u.streams)
	var all sync.WaitGroup
	for s := range u.streams {
		all.Go(func() {
			for i := range work {
				if err := plainPut(client, fmt.Sprintf("%s/bench/floor/%06d", addr, i), data, sign); err != nil {
					errs[s] = err
				}
			}
		})
	}
	for i := range n {
		work <- i
	}
	close(work)
	all.Wait()
	return errors.Join(errs...)
}

func plainPut(client *http.Client, url string, data []byte, sign func(*http.Request) error) error {
	req, err := http.NewRequest(http.MethodPut, url, bytes.NewReader(data))
	if err != nil {
		return err
	}
	if sign != nil {
		if err := sign(req); err != nil {
			return err
		}
	}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	io.Copy(io.Discard, resp.Body)
	if resp.StatusCode != http.StatusOK {
		return errors.New(resp.Status)
	}
	return nil
}

// engine sends the files by a plan; only the run is timed.
func (u upload) engine(dir, addr string, times *[]time.Duration, cpu *time.Duration) error {
	temp, err := os.MkdirTemp(dir, "plan-")
	if err != nil {
		return err
	}
	end, err := folder.OpenEndpoint("source", filepath.Join(dir, "source"), folder.Options{})
	if err != nil {
		return err
	}
	defer end.Close()
	store, err := s3.NewStore(s3.Config{Name: "bench", Address: addr, AccessKey: "bench", Secret: secret.New("bench")})
	if err != nil {
		return err
	}
	defer store.Close()
	source, err := end.Open("")
	if err != nil {
		return err
	}
	target, err := store.Open("bench/ours")
	if err != nil {
		return err
	}
	p, err := makePlan(temp, source, target)
	if err != nil {
		return err
	}
	defer p.Close()
	ledger, err := transfer.OpenLedger(filepath.Join(temp, "ledger"), "bench")
	if err != nil {
		return err
	}
	defer ledger.Close()
	return timed(times, cpu, func() error {
		out, err := transfer.Run(ctx, p, source, target, ledger, &transfer.Meter{}, transfer.Options{Streams: u.streams, PartSize: u.part})
		if err == nil && (out.Failed > 0 || out.Objects != int64(u.count)) {
			err = fmt.Errorf("%d of %d objects, %d failed", out.Objects, u.count, out.Failed)
		}
		return err
	})
}

func makePlan(dir string, source, target place.Place) (*plan.Plan, error) {
	a, err := catalog.Survey(ctx, source, filepath.Join(dir, "a"), catalog.Options{})
	if err != nil {
		return nil, err
	}
	defer a.Close()
	b, err := catalog.Survey(ctx, target, filepath.Join(dir, "b"), catalog.Options{})
	if err != nil {
		return nil, err
	}
	defer b.Close()
	return plan.Build(ctx, filepath.Join(dir, "p"), a, b, plan.Options{Rules: rule.Default(), Source: source.Abilities(), Target: target.Abilities()})
}
