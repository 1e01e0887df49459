package main

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/transfer"
)

// measureRuns measures runs between all kinds of places.
func measureRuns(dir, program string) error {
	for _, u := range []upload{
		{name: "2 GiB as 8 MiB parts", object: 256 << 20, count: 8, part: 8 << 20, streams: 8},
		{name: "20,000 objects of 4 KiB", object: 4 << 10, count: 20000, streams: 16},
	} {
		if err := u.measure(filepath.Join(dir, "upload"), program); err != nil {
			return fmt.Errorf("%s: %w", u.name, err)
		}
	}
	for _, kind := range []string{"S3", "Blob"} {
		if err := measureStores(filepath.Join(dir, "stores"), program, kind); err != nil {
			return fmt.Errorf("store to store: %w", err)
		}
	}
	if err := measureFolders(dir); err != nil {
		return err
	}
	if err := measureFar(filepath.Join(dir, "far"), program); err != nil {
		return fmt.Errorf("far store: %w", err)
	}
	if err := measurePacks(filepath.Join(dir, "packs"), program); err != nil {
		return fmt.Errorf("packs: %w", err)
	}
	if err := measureDigests(filepath.Join(dir, "digests"), program); err != nil {
		return fmt.Errorf("digests: %w", err)
	}
	// In a process of its own, since the most memory it has had is measured.
	memory := exec.Command(os.Args[0], "memory", program)
	memory.Stdout, memory.Stderr = os.Stdout, os.Stderr
	return memory.Run()
}

// measureFolders copies from folder to folder, large files and small ones.
func measureFolders(dir string) error {
	for _, f := range []folders{
		{name: "24 files of 64 MiB", size: 64 << 20, count: 24, streams: 4},
		{name: "50,000 files of 4 KiB", size: 4 << 10, count: 50000, streams: 16},
	} {
		if err := f.measure(filepath.Join(dir, "folders")); err != nil {
			return fmt.Errorf("folder to folder: %w", err)
		}
	}
	return nil
}

// measureStores copies 1 GiB of objects of 8 MiB from one stand-in to another,
// against a bare pipe from GET to PUT.
func measureStores(dir, program, kind string) error {
	defer os.RemoveAll(dir)
	const size, count, streams = 8 << 20, 128, 8
	var floor, ours []time.Duration
	var floorCPU, oursCPU time.Duration
	u := upload{object: size, count: count, streams: streams}
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	var args []string
	if kind == "Blob" {
		args = []string{"--blob"}
	}
	err := onFreshStore(program, filepath.Join(dir, "from"), nil, func(from string) error {
		if err := u.engine(dir, from, new([]time.Duration), nil); err != nil { // fills it
			return err
		}
		source, err := openStore(from)
		if err != nil {
			return err
		}
		defer source.Close()
		a, err := source.Open("bench/ours")
		if err != nil {
			return err
		}
		for round := range rounds {
			steps := []func(to string) error{
				func(to string) error {
					return timed(&floor, &floorCPU,
						func() error { return pipeFloor(from, to, kind, count, size, streams) })
				},
				func(to string) error {
					target, err := openStore(to)
					if err != nil {
						return err
					}
					defer target.Close()
					b, err := target.Open("bench/copy")
					if err != nil {
						return err
					}
					return carry(dir, a, b, count, transfer.Options{Streams: streams, PartSize: size}, &ours, &oursCPU)
				},
			}
			for i := range steps {
				if err := onFreshStore(program, filepath.Join(dir, "to"), args,
					steps[(i+round)%len(steps)]); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	total := float64(size) * count / 1e6
	fmt.Printf("S3 stand-in to %s stand-in, %d objects of 8 MiB, %d streams (median of %d): bare GET|PUT pipe %.2f "+
		"s (%.0f MB/s), Lumtra %.2f s (%.0f MB/s): %.2f of the pipe; client CPU %.2f times (bar: 0.85)\n\n",
		kind, count, streams, rounds, median(floor).Seconds(), total/median(floor).Seconds(), median(ours).Seconds(),
		total/median(ours).Seconds(),
		median(floor).Seconds()/median(ours).Seconds(), oursCPU.Seconds()/floorCPU.Seconds())
	return nil
}

// pipeFloor reads each object with a GET and hands its body to a PUT.
func pipeFloor(from, to, kind string, count int, size int64, streams int) error {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: streams, WriteBufferSize: 128 << 10,
		ReadBufferSize: 128 << 10, DisableCompression: true}}
	defer client.CloseIdleConnections()
	sign := newSigner()
	signTo := sign
	if kind == "Blob" {
		signTo = func(r *http.Request) error {
			r.Header.Set("X-Ms-Blob-Type", "BlockBlob")
			r.Header.Set("X-Ms-Version", "2021-12-02")
			return nil
		}
	}
	return atOnce(streams, count, func(i int) error {
		req, err := http.NewRequest(http.MethodGet, fmt.Sprintf("%s/bench/ours/%03d/%06d.wav", from, i/256, i), nil)
		if err != nil {
			return err
		}
		if err := sign(req); err != nil {
			return err
		}
		resp, err := client.Do(req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return errors.New(resp.Status)
		}
		return putBody(client, fmt.Sprintf("%s/bench/floor/%06d", to, i), io.Reader(resp.Body), size, signTo)
	})
}

// folders is a copy from folder to folder.
type folders struct {
	name    string
	size    int64
	count   int
	streams int
}

func (f folders) measure(dir string) error {
	defer os.RemoveAll(dir)
	from := filepath.Join(dir, "source")
	u := upload{object: f.size, count: f.count}
	if err := u.fill(from); err != nil {
		return err
	}
	var floor, ours []time.Duration
	var floorCPU, oursCPU time.Duration
	for round := range rounds {
		to := func(i int) string { return filepath.Join(dir, fmt.Sprintf("round-%d-%d", round, i)) } // fresh each time
		steps := []func() error{
			func() error { return timed(&floor, &floorCPU, func() error { return f.floor(from, to(0)) }) },
			func() error { return f.engine(dir, from, to(1), &ours, &oursCPU) },
		}
		for i := range steps {
			if err := steps[(i+round)%len(steps)](); err != nil {
				return err
			}
		}
	}
	total := float64(f.size) * float64(f.count) / 1e6
	what, bar := "one stream a file, with the checksum, temp and rename", 0.9
	if f.size < 1<<20 {
		what = "one after the other, with temp and rename"
	}
	fmt.Printf("Folder to folder, %s, %d streams (median of %d): bare copier (%s) %.2f s (%.0f MB/s, %.0f files/s), "+
		"Lumtra %.2f s (%.0f MB/s, %.0f files/s): %.2f of it; CPU %.2f times (bar: %.1f)\n\n",
		f.name, f.streams, rounds, what, median(floor).Seconds(), total/median(floor).Seconds(),
		float64(f.count)/median(floor).Seconds(),
		median(ours).Seconds(), total/median(ours).Seconds(), float64(f.count)/median(ours).Seconds(),
		median(floor).Seconds()/median(ours).Seconds(), oursCPU.Seconds()/floorCPU.Seconds(), bar)
	return nil
}

// floor copies as plainly as can be: big files as many at a time as the engine
// does and with the checksum, small ones one after the other as cp -r would.
func (f folders) floor(from, to string) error {
	streams := f.streams
	if f.size < 1<<20 {
		streams = 1
	}
	for i := 0; i*256 < f.count; i++ {
		if err := os.MkdirAll(filepath.Join(to, fmt.Sprintf("%03d", i)), 0o755); err != nil {
			return err
		}
	}
	return atOnce(streams, f.count, func(i int) error {
		name := fmt.Sprintf("%03d/%06d.wav", i/256, i)
		in, err := os.Open(filepath.Join(from, name))
		if err != nil {
			return err
		}
		defer in.Close()
		temp := filepath.Join(to, name+".tmp")
		out, err := os.Create(temp)
		if err != nil {
			return err
		}
		if f.size < 1<<20 {
			_, err = io.Copy(out, in)
		} else {
			sum := object.CRC64NVME.New()
			_, err = io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(sum, out)}, struct{ io.Reader }{in},
				make([]byte, 256<<10))
		}
		if err == nil {
			err = out.Close()
		}
		if err == nil {
			err = os.Rename(temp, filepath.Join(to, name))
		}
		return err
	})
}

func (f folders) engine(dir, from, to string, times *[]time.Duration, cpu *time.Duration) error {
	if err := os.Mkdir(to, 0o755); err != nil {
		return err
	}
	var places []place.Place
	for _, root := range []string{from, to} {
		end, err := folder.OpenEndpoint(filepath.Base(root), root, folder.Options{})
		if err != nil {
			return err
		}
		defer end.Close()
		p, err := end.Open("")
		if err != nil {
			return err
		}
		places = append(places, p)
	}
	return carry(dir, places[0], places[1], f.count, transfer.Options{Streams: f.streams}, times, cpu)
}

// measureFar sends small objects to a store that takes 40 ms for every request.
func measureFar(dir, program string) error {
	defer os.RemoveAll(dir)
	const count, latency = 2000, 40 * time.Millisecond
	u := upload{object: 64 << 10, count: count, streams: 64}
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	for _, streams := range []int{64, 0} {
		var ours []time.Duration
		u.streams = streams
		for range rounds {
			err := onFreshStore(program, filepath.Join(dir, "store"), []string{"--fault", "latency=40ms"},
				func(addr string) error {
					return u.engine(dir, addr, &ours, nil)
				})
			if err != nil {
				return err
			}
		}
		got := float64(count) / median(ours).Seconds()
		if streams == 0 {
			fmt.Printf("  the same with as many streams as the run finds to help: %.2f s, %.0f objects/s\n\n",
				median(ours).Seconds(), got)
			break
		}
		best := float64(streams) / latency.Seconds()
		fmt.Printf("Folder to stand-in, 2,000 objects of 64 KiB, 40 ms for every request, %d streams (median of "+
			"%d): %.2f s, %.0f objects/s; streams ÷ latency is %.0f: %.2f of it (bar: 0.8)\n",
			streams, rounds, median(ours).Seconds(), got, best, got/best)
	}
	return nil
}

// measureMemory sends big objects over many streams.
func measureMemory(dir, program string) error {
	const streams, part = 64, 8 << 20
	u := upload{object: 256 << 20, count: 16, part: part, streams: streams}
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	before := peak()
	err := onFreshStore(program, filepath.Join(dir, "store"), nil, func(addr string) error {
		return u.engine(dir, addr, new([]time.Duration), nil)
	})
	if err != nil {
		return err
	}
	fmt.Printf("Memory: 4 GiB as 8 MiB parts over %d streams: %d MB resident at the most, %d MB of it before the "+
		"run (bar: streams × part × 2 + 100 MB = %d MB)\n\n", streams, peak()>>20, before>>20,
		(streams*part*2+100<<20)>>20)
	return nil
}
