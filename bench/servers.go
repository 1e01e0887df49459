package main

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/place/placetest"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/core/transfer"
)

// realWays are ways in which the real servers are asked for the same: what they are
// said to refuse beside what a test of them found.
var realWays = []struct {
	name    string
	refused []place.Ask
}{
	{"CRC-64, as they were found", nil},
	{"Content-MD5 ahead", []place.Ask{place.SumBehind, place.SumAhead}},
	{"the answer's ETag", []place.Ask{place.SumBehind, place.SumAhead, place.MD5Ahead, place.SignedBody}},
}

// measureServers sends the same files to each of the real servers that the
// environment names, in turn by each way, and tells each way's rate as a share of the
// first. `tools/servers` starts them.
func measureServers(dir string) error {
	servers := placetest.Servers("S3")
	if len(servers) == 0 {
		return errors.New("no servers are named: tools/servers .tools go run ./bench servers")
	}
	defer os.RemoveAll(dir)
	u := upload{object: 128 << 20, count: 8, part: 8 << 20, streams: 8}
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	for _, srv := range servers {
		if err := u.waysOf(dir, srv); err != nil {
			return fmt.Errorf("%s: %w", srv.Name, err)
		}
	}
	return nil
}

// waysOf measures each way to one server.
func (u upload) waysOf(dir string, srv placetest.Server) error {
	end, err := folder.OpenEndpoint("source", filepath.Join(dir, "source"), folder.Options{})
	if err != nil {
		return err
	}
	defer end.Close()
	source, err := end.Open("")
	if err != nil {
		return err
	}
	known := place.NewKnown(place.Facts{}, nil)
	store, err := s3.NewStore(s3.Config{Name: srv.Name, Address: srv.Address, AccessKey: srv.Access,
		Secret: secret.New(srv.Secret), Known: known})
	if err != nil {
		return err
	}
	defer store.Close()
	if err := store.MakeBucket(ctx, "ways"); err != nil && place.KindOf(err) != place.Exists {
		return err
	}
	target, err := store.Open("ways")
	if err != nil {
		return err
	}
	found, err := place.Can(target).Examines.Examine(ctx, "probe/")
	if err != nil {
		return err
	}
	times := make([][]time.Duration, len(realWays))
	cpu := make([]time.Duration, len(realWays))
	for round := range rounds {
		for i := range realWays {
			n := (i + round) % len(realWays)
			facts := found
			facts.Answers = maps.Clone(found.Answers)
			for _, a := range realWays[n].refused {
				facts.Answers[a] = place.Refused
			}
			known.Replace(facts)
			err := carry(dir, source, target, u.count, transfer.Options{Streams: u.streams, PartSize: u.part},
				&times[n], &cpu[n])
			if err == nil {
				err = clear(target)
			}
			if err != nil {
				return err
			}
		}
	}
	fmt.Printf("%s, 1 GiB as 8 MiB parts, 8 streams (median of %d):\n", srv.Name, rounds)
	for n, w := range realWays {
		took := median(times[n])
		rate := float64(u.object) * float64(u.count) / 1e6 / took.Seconds()
		share := median(times[0]).Seconds() / took.Seconds()
		fmt.Printf("  %-28s %6.2f s, %5.0f MB/s: %.2f of the first\n", w.name, took.Seconds(), rate, share)
	}
	fmt.Println()
	return nil
}

// clear empties a place.
func clear(p place.Place) error {
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		if err != nil {
			return err
		}
		if err := errors.Join(p.Remove(ctx, object.Ref{Key: e.Key})...); err != nil {
			return err
		}
	}
	return nil
}
