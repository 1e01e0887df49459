package main

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/inorder"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place/folder"
	"lumtra/core/transfer"
)

// measurePacks sends 100,000 files of 4 KiB as one pack, against the same as single objects, and against
// a bare floor that walks, reads, writes heads, sums, compresses with the same library, and PUTs parts.
func measurePacks(dir, program string) error {
	defer os.RemoveAll(dir)
	u := upload{object: 4 << 10, count: 100_000, streams: 16}
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	for _, form := range []pack.Form{pack.Plain, pack.Zstd} {
		var floor, ours, single []time.Duration
		for round := range rounds {
			steps := []func(string) error{
				func(addr string) error {
					return timed(&floor, nil, func() error {
						return packFloor(filepath.Join(dir, "source"), addr,
							form)
					})
				},
				func(addr string) error { return u.packed(dir, addr, form, &ours) },
				func(addr string) error {
					if form != pack.Plain || round > 0 {
						return nil
					}
					return u.engine(dir, addr, &single, nil)
				},
			}
			for i := range steps { // the order rotates
				if err := onFreshStore(program, filepath.Join(dir, "store"), nil,
					steps[(i+round)%len(steps)]); err != nil {
					return err
				}
			}
		}
		fmt.Printf("Folder to stand-in, 100,000 files of 4 KiB as one %s, %d processors (median of %d)\n", form,
			runtime.GOMAXPROCS(0), rounds)
		show := func(name string, d time.Duration) {
			fmt.Printf("  %-34s %7.2f s  %8.0f objects/s\n", name, d.Seconds(), float64(u.count)/d.Seconds())
		}
		show("floor: walk, read, sum, pack, PUT", median(floor))
		show("Lumtra", median(ours))
		fmt.Printf("  %-34s %7.2f of the floor", "ratio", median(floor).Seconds()/median(ours).Seconds())
		if len(single) > 0 {
			fmt.Printf(", %.1f times single objects (%.1f s)", median(single).Seconds()/median(ours).Seconds(),
				median(single).Seconds())
		}
		fmt.Print("\n\n")
	}
	return nil
}

// packed sends the files as one pack; only the run is timed.
func (u upload) packed(dir, addr string, form pack.Form, times *[]time.Duration) error {
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
	outer, err := store.Open("bench")
	if err != nil {
		return err
	}
	return carry(dir, source, pack.In(outer, "ours."+string(form), ""), u.count,
		transfer.Options{Streams: u.streams, Dir: dir}, times, nil)
}

const floorPart = 8 << 20

// packFloor packs without index, ledger, plan or retries.
func packFloor(dir, addr string, form pack.Form) error {
	sign := newSigner()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 6, WriteBufferSize: 128 << 10,
		DisableCompression: true}}
	defer client.CloseIdleConnections()
	var all sync.WaitGroup
	var failed atomic.Value
	slots, parts := make(chan struct{}, 6), 0
	send := func(part []byte) {
		slots <- struct{}{}
		parts++
		n := parts
		all.Go(func() {
			defer func() { <-slots }()
			sum := object.CRC64NVME.New()
			sum.Write(part)
			if err := putBody(client, fmt.Sprintf("%s/bench/floor/%06d", addr, n), bytes.NewReader(part),
				int64(len(part)),
				sign); err != nil {
				failed.Store(err)
			}
		})
	}
	frames := make(chan []byte, 4)
	packed := make(chan error, 1)
	go func() {
		part := make([]byte, 0, floorPart)
		err := inorder.Map(context.Background(), runtime.GOMAXPROCS(0), func() ([]byte, bool) {
			f,
				ok := <-frames
			return f, ok
		},
			func(_ context.Context, f []byte) []byte {
				if form == pack.Plain {
					return f
				}
				out, err := form.Frame(nil, f, 0)
				if err != nil {
					failed.Store(err)
				}
				return out
			}, func(f []byte) error {
				for len(f) > 0 {
					n := min(len(f), floorPart-len(part))
					part = append(part, f[:n]...)
					if f = f[n:]; len(part) == floorPart {
						send(part)
						part = make([]byte, 0, floorPart)
					}
				}
				return nil
			})
		if len(part) > 0 {
			send(part)
		}
		packed <- err
	}()
	cut := &framing{out: frames}
	err := packFiles(dir, cut)
	if len(cut.now) > 0 {
		frames <- cut.now
	}
	close(frames)
	if done := <-packed; err == nil {
		err = done
	}
	all.Wait()
	if bad, ok := failed.Load().(error); ok && err == nil {
		err = bad
	}
	return err
}

// framing cuts a stream into frames.
type framing struct {
	out chan<- []byte
	now []byte
}

func (f *framing) Write(p []byte) (int, error) {
	for n := 0; n < len(p); {
		if f.now == nil {
			f.now = make([]byte, 0, pack.FrameSize)
		}
		k := min(len(p)-n, pack.FrameSize-len(f.now))
		f.now = append(f.now, p[n:n+k]...)
		if n += k; len(f.now) == pack.FrameSize {
			f.out <- f.now
			f.now = nil
		}
	}
	return len(p), nil
}

// packFiles writes a tar of all files, and sums up each.
func packFiles(dir string, to io.Writer) error {
	w := tar.NewWriter(to)
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for _, kind := range []object.SumKind{object.CRC64NVME, object.SHA256} {
			h := kind.New()
			h.Write(data)
			_ = object.SumOf(kind, h)
		}
		name, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		if err := w.WriteHeader(&tar.Header{Name: name, Size: info.Size(), ModTime: info.ModTime(), Mode: 0o644,
			Typeflag: tar.TypeReg, Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err = w.Write(data)
		return err
	})
	if err != nil {
		return err
	}
	return w.Close()
}
