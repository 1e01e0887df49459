package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
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
	digest  object.SumKind // computed on the way; NoSum for none
}

const rounds = 3

var ctx = context.Background()

func (u upload) measure(dir, program string) error {
	defer os.RemoveAll(dir)
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	var floors, signed, reading, ours []time.Duration
	var floorCPU, readCPU, oursCPU time.Duration
	for round := range rounds {
		steps := []func(string) error{
			func(addr string) error { return timed(&floors, &floorCPU, func() error { return u.floor(addr, nil) }) },
			func(addr string) error {
				return timed(&signed, nil, func() error { return u.floor(addr, newSigner()) })
			},
			func(addr string) error {
				return timed(&reading, &readCPU,
					func() error { return u.readingFloor(filepath.Join(dir, "source"), addr) })
			},
			func(addr string) error { return u.engine(dir, addr, &ours, &oursCPU) },
		}
		for i := range steps { // the order rotates
			if err := onFreshStore(program, filepath.Join(dir, "store"), nil, steps[(i+round)%len(steps)]); err != nil {
				return err
			}
		}
	}
	total := float64(u.object) * float64(u.count)
	show := func(name string, d time.Duration) {
		fmt.Printf("  %-34s %7.2f s  %8.0f MB/s  %8.0f objects/s\n", name, d.Seconds(), total/1e6/d.Seconds(),
			float64(u.count)/d.Seconds())
	}
	fmt.Printf("Folder to stand-in, %s, %d streams (median of %d)\n", u.name, u.streams, rounds)
	show("floor: plain PUTs from memory", median(floors))
	show("floor, signed by the SDK's signer", median(signed))
	show("floor, reading, summing and signed", median(reading))
	show("Lumtra", median(ours))
	fmt.Printf("  %-34s %7.2f of the plain floor, %.2f of the signed, %.2f of the reading, summing and signed one\n",
		"ratio",
		median(floors).Seconds()/median(ours).Seconds(), median(signed).Seconds()/median(ours).Seconds(),
		median(reading).Seconds()/median(ours).Seconds())
	fmt.Printf("  %-34s %7.2f times the plain floor's, %.2f times the reading one's\n\n", "client CPU",
		oursCPU.Seconds()/floorCPU.Seconds(), oursCPU.Seconds()/readCPU.Seconds())
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
func onFreshStore(program, dir string, args []string, f func(addr string) error) error {
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	cmd := exec.Command(program, append([]string{"stand-in", dir}, args...)...)
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
	if slices.Contains(args, "--blob") {
		addr += "/marsh" // the account
	}
	end, err := openStore(addr)
	if err != nil {
		return err
	}
	defer end.Close()
	if err := place.EndpointCan(end).Buckets.MakeBucket(ctx, "bench"); err != nil {
		return err
	}
	syscall.Sync() // what the round before wrote is not this one's
	return f(addr)
}

// openStore opens the stand-in at an address: of the Blob API where an account
// is the address's path.
func openStore(addr string) (place.Endpoint, error) {
	if at, err := url.Parse(addr); err == nil && len(at.Path) > 1 {
		return blob.NewStore(blob.Config{Name: "bench", Address: addr, CRC64: true})
	}
	return s3.NewStore(s3.Config{Name: "bench", Address: addr, AccessKey: "bench", Secret: secret.New("bench")})
}

// readingFloor does the same reads, checksums, signatures and PUTs as the
// engine, each part streamed as it is read, and nothing else.
func (u upload) readingFloor(dir, addr string) error {
	size := u.object
	if u.part > 0 {
		size = u.part
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: u.streams, WriteBufferSize: 128 << 10,
		DisableCompression: true}}
	defer client.CloseIdleConnections()
	sign := newSigner()
	return atOnce(u.streams, u.count*int(u.object/size), func(i int) error {
		n := i / int(u.object/size)
		file, err := os.Open(filepath.Join(dir, fmt.Sprintf("%03d/%06d.wav", n/256, n)))
		if err != nil {
			return err
		}
		defer file.Close()
		offset := int64(i%int(u.object/size)) * size
		sum := object.CRC64NVME.New()
		body := io.TeeReader(io.NewSectionReader(file, offset, size), sum)
		return putBody(client, fmt.Sprintf("%s/bench/floor/%06d", addr, i), body, size, sign)
	})
}

// atOnce does n things with so many of them under way at a time.
func atOnce(streams, n int, do func(i int) error) error {
	work := make(chan int)
	errs := make([]error, streams)
	var all sync.WaitGroup
	for s := range streams {
		all.Go(func() {
			for i := range work {
				if err := do(i); err != nil {
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

// floor sends the bytes with net/http and nothing else, optionally signed.
func (u upload) floor(addr string, sign func(*http.Request) error) error {
	size := u.object
	if u.part > 0 {
		size = u.part
	}
	data := make([]byte, size)
	rand.NewChaCha8([32]byte{1}).Read(data)
	n := int(u.object / size * int64(u.count))
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: u.streams, WriteBufferSize: 128 << 10,
		DisableCompression: true}}
	defer client.CloseIdleConnections()
	return atOnce(u.streams, n, func(i int) error {
		return putBody(client, fmt.Sprintf("%s/bench/floor/%06d", addr, i), bytes.NewReader(data), size, sign)
	})
}

// putBody sends a body of the given size, and as a block blob should that be
// asked for.
func putBody(client *http.Client, url string, body io.Reader, size int64, sign func(*http.Request) error) error {
	req, err := http.NewRequest(http.MethodPut, url, body)
	if err != nil {
		return err
	}
	req.ContentLength = size
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
	if resp.StatusCode >= 300 {
		return errors.New(resp.Status)
	}
	return nil
}

// engine sends the files by a plan; only the run is timed.
func (u upload) engine(dir, addr string, times *[]time.Duration, cpu *time.Duration) error {
	end, err := folder.OpenEndpoint("source", filepath.Join(dir, "source"), folder.Options{})
	if err != nil {
		return err
	}
	defer end.Close()
	store, err := openStore(addr)
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
	return carry(dir, source, target, u.count, transfer.Options{Streams: u.streams, PartSize: u.part,
		Digest: u.digest}, times, cpu)
}

// carry plans and runs; only the run is timed.
func carry(dir string, source, target place.Place, count int, opts transfer.Options, times *[]time.Duration,
	cpu *time.Duration) error {
	temp, err := os.MkdirTemp(dir, "plan-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(temp)
	p, err := makePlan(temp, source, target)
	if err != nil {
		return err
	}
	defer p.Close()
	ledger, err := ledger.Open(filepath.Join(temp, "ledger"), "bench", false)
	if err != nil {
		return err
	}
	defer ledger.Close()
	return timed(times, cpu, func() error {
		out, err := transfer.Run(ctx, p, source, target, ledger, &transfer.Meter{}, opts)
		if err == nil && (out.Failed > 0 || out.Objects != int64(count)) {
			err = fmt.Errorf("%d of %d objects, %d failed", out.Objects, count, out.Failed)
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
	return plan.Build(ctx, filepath.Join(dir, "p"), a, b,
		plan.Options{Rules: rule.Default(), Source: place.Can(source).Abilities, Target: target.Abilities()})
}
