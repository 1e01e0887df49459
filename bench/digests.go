package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"lumtra/core/object"
)

// measureDigests sends big objects with a digest of each. Its floor is two things
// after another, since both want all processors: digesting the same files and
// nothing else, and sending them without a digest.
func measureDigests(dir, program string) error {
	defer os.RemoveAll(dir)
	u := upload{object: 256 << 20, count: 8, part: 8 << 20, streams: 8}
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	for _, kind := range []object.SumKind{object.BLAKE3, object.SHA256} {
		var floor, plain, ours []time.Duration
		var floorCPU, plainCPU, oursCPU time.Duration
		without := u
		u.digest = kind
		send := func(u upload, times *[]time.Duration, cpu *time.Duration) func() error {
			return func() error {
				return onFreshStore(program, filepath.Join(dir, "store"), nil,
					func(addr string) error { return u.engine(dir, addr, times, cpu) })
			}
		}
		without.digest = object.NoSum
		for round := range rounds {
			steps := []func() error{
				func() error { return timed(&floor, &floorCPU, func() error { return u.digestFloor(dir) }) },
				send(without, &plain, &plainCPU),
				send(u, &ours, &oursCPU),
			}
			for i := range steps {
				if err := steps[(i+round)%len(steps)](); err != nil {
					return err
				}
			}
		}
		total := float64(u.object) * float64(u.count) / 1e6
		both := median(floor) + median(plain)
		fmt.Printf("2 GiB as 8 MiB parts to the stand-in with %s of each object (median of %d): digesting alone "+
			"%.2f s (%.0f MB/s), sending without %.2f s, Lumtra %.2f s (%.0f MB/s): %.2f of both together; client "+
			"CPU %.2f times\n\n",
			kind, rounds, median(floor).Seconds(), total/median(floor).Seconds(), median(plain).Seconds(),
			median(ours).Seconds(), total/median(ours).Seconds(),
			both.Seconds()/median(ours).Seconds(), oursCPU.Seconds()/(floorCPU+plainCPU).Seconds())
	}
	return nil
}

// digestFloor digests the files, as many at a time as there are processors.
func (u upload) digestFloor(dir string) error {
	return atOnce(runtime.NumCPU(), u.count, func(i int) error {
		f, err := os.Open(filepath.Join(dir, "source", fmt.Sprintf("%03d/%06d.wav", i/256, i)))
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.CopyBuffer(io.MultiWriter(object.CRC64NVME.New(), u.digest.New()), struct{ io.Reader }{f},
			make([]byte, 128<<10))
		return err
	})
}
