package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/core/transfer"
)

// way is how a store is asked that lacks something.
type way struct {
	name   string
	habits []string
}

// The stand-in makes MD5s in each, as most stores do; so what differs is the client's
// part, and what the way asks of the store beside.
var bigWays = []way{
	{"CRC-64 behind the content", []string{"etags-md5"}},
	{"Content-MD5 ahead", []string{"etags-md5", "sums-ignored", "trailers-refused"}},
	{"the answer's ETag", []string{"etags-md5", "sums-ignored", "trailers-refused", "md5-ignored", "payload-ignored"}},
	{"read back", []string{"etags-opaque", "sums-ignored", "trailers-refused", "md5-ignored", "payload-ignored"}},
}

var smallWays = []way{
	{"conditions and CRC-64", []string{"etags-md5"}},
	{"Content-MD5", []string{"etags-md5", "sums-ignored"}},
	{"looks before and after", []string{"etags-md5", "conditions-refused"}},
	{"looks, and read back", []string{"etags-opaque", "conditions-refused", "sums-ignored", "md5-ignored",
		"payload-ignored"}},
}

// measureWays sends the same files to stores that lack something, in turn, and tells
// each way's rate as a share of that to a store that lacks nothing.
func measureWays(dir, program string) error {
	defer os.RemoveAll(dir)
	for _, x := range []struct {
		u    upload
		ways []way
	}{
		{upload{name: "2 GiB as 8 MiB parts, 8 streams", object: 256 << 20, count: 8, part: 8 << 20, streams: 8},
			bigWays},
		{upload{name: "10,000 × 4 KiB, 16 streams", object: 4 << 10, count: 10_000, part: 8 << 20, streams: 16},
			smallWays},
	} {
		if err := x.u.fill(filepath.Join(dir, "source")); err != nil {
			return err
		}
		times := make([][]time.Duration, len(x.ways))
		cpu := make([]time.Duration, len(x.ways))
		for round := range rounds {
			for i := range x.ways {
				n := (i + round) % len(x.ways)
				var args []string
				for _, h := range x.ways[n].habits {
					args = append(args, "--habit", h)
				}
				err := onFreshStore(program, filepath.Join(dir, "store"), args,
					func(addr string) error { return x.u.known(dir, addr, &times[n], &cpu[n]) })
				if err != nil {
					return fmt.Errorf("%s: %w", x.ways[n].name, err)
				}
			}
		}
		fmt.Printf("%s to a store that makes MD5s (median of %d):\n", x.u.name, rounds)
		for n, w := range x.ways {
			took := median(times[n])
			fmt.Printf("  %-28s %6.2f s, %5.0f MB/s, %6.0f objects/s: %.2f of the first; client CPU %.2f times\n",
				w.name, took.Seconds(), float64(x.u.object)*float64(x.u.count)/1e6/took.Seconds(),
				float64(x.u.count)/took.Seconds(), median(times[0]).Seconds()/took.Seconds(),
				cpu[n].Seconds()/cpu[0].Seconds())
		}
		fmt.Println()
		os.RemoveAll(dir)
	}
	return nil
}

// known is engine to a store that is tested first.
func (u upload) known(dir, addr string, times *[]time.Duration, cpu *time.Duration) error {
	end, err := folder.OpenEndpoint("source", filepath.Join(dir, "source"), folder.Options{})
	if err != nil {
		return err
	}
	defer end.Close()
	known := place.NewKnown(place.Facts{}, nil)
	store, err := s3.NewStore(s3.Config{Name: "bench", Address: addr, AccessKey: "bench", Secret: secret.New("bench"),
		Known: known})
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
	facts, err := place.Can(target).Examines.Examine(ctx, "probe/")
	if err != nil {
		return err
	}
	known.Replace(facts)
	return carry(dir, source, target, u.count, transfer.Options{Streams: u.streams, PartSize: u.part}, times, cpu)
}
