package demo

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io/fs"
	"math"
	mrand "math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"lumtra/core/place"
	"lumtra/service"
)

// Size says how much there is of everything.
type Size struct {
	Masters int // recordings: WAV, each with a sidecar and a proof
	Tiles   int // spectrogram tiles, tiny
	Cards   int // recordings still on the field cards
	// Scale multiplies the length of recordings.
	Scale float64
}

// Usual is the demo's size: about 300 MB in 2,000 files.
var Usual = Size{Masters: 54, Tiles: 1800, Cards: 9, Scale: 1}

var (
	sites = []string{"weir", "mudflat", "reedbed", "saltpan", "old pier", "north spit", "lighthouse", "ferry steps",
		"glasswort creek"}
	voices = []string{"dunlin", "curlew", "avocet", "reed warbler", "bittern", "redshank", "spoonbill",
		"wind in sedge", "rain on tin",
		"net mender's dialect", "tide bell", "shelduck", "little tern", "marsh harrier", "ice breaking",
		"eel catcher's song"}
)

// marker tells a finished world from a half-built one.
const marker = "saltmarsh.json"

// Built tells whether dir holds a finished world.
func Built(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, marker))
	return err == nil
}

// unfinished lies in a world that is being built.
const unfinished = ".building"

// halfBuilt tells whether dir holds a world that was never finished and nothing else,
// so that it can go.
func halfBuilt(dir string) bool {
	if raw, err := os.ReadFile(filepath.Join(dir, unfinished)); err != nil || string(raw) != unfinishedText {
		return false
	}
	ours := []string{unfinished, "studio", "field-cards", "stores", "jobs", "endpoints.toml", "rates.toml", "surveys",
		"state"}
	all, err := os.ReadDir(dir)
	return err == nil && !slices.ContainsFunc(all, func(e fs.DirEntry) bool { return !slices.Contains(ours, e.Name()) })
}

const unfinishedText = "Saltmarsh Sound Archive, being made by lumtra demo\n"

// Build makes the world in dir. It refuses a folder that holds anything else
// but a world that was never finished.
func Build(ctx context.Context, dir string, size Size) error {
	if halfBuilt(dir) {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	if left, err := os.ReadDir(dir); err == nil && len(left) > 0 {
		return fmt.Errorf("%s is not empty and not a demo world; choose another folder", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, unfinished), []byte(unfinishedText), 0o644); err != nil {
		return err
	}
	for _, sub := range []string{"studio/masters", "studio/proofs", "studio/tiles", "field-cards", "stores", "jobs"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return err
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	for i := range size.Masters {
		group.Go(func() error { return master(ctx, dir, i, size.Scale) })
	}
	for i := range size.Cards {
		group.Go(func() error {
			name := filepath.Join(dir, "field-cards", fmt.Sprintf("card-%c", 'a'+i%3),
				fmt.Sprintf("take-%03d.wav", i+1))
			return wav(ctx, name, uint64(9000+i), 6*size.Scale, recorded(400+i))
		})
	}
	const batch = 100
	for first := 0; first < size.Tiles; first += batch {
		group.Go(func() error {
			for i := first; i < min(first+batch, size.Tiles); i++ {
				if err := tile(dir, i); err != nil {
					return err
				}
			}
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return writeWorkspace(dir)
}

// recorded is a plausible time in the past, the same for the same number.
func recorded(i int) time.Time {
	return time.Date(2026, 3, 1, 4, 30, 0, 0, time.UTC).Add(time.Duration(i) * 37 * time.Hour / 7).Truncate(time.Second)
}

func master(ctx context.Context, dir string, i int, scale float64) error {
	site, voice := sites[i%len(sites)], voices[(i*7)%len(voices)]
	at := recorded(i * 5)
	stem := fmt.Sprintf("%s/%s/%s %02d", site, at.Format("2006-01"), voice, i+1)
	// Most are short; some are whole dawns and go in parts.
	seconds := 12 + float64(i*i%53)
	if i%9 == 4 {
		seconds = 240 + float64(i)
	}
	seconds *= scale
	if err := wav(ctx, filepath.Join(dir, "studio/masters", stem+".wav"), uint64(i), seconds, at); err != nil {
		return err
	}
	if err := wav(ctx, filepath.Join(dir, "studio/proofs", stem+" proof.wav"), uint64(i), min(seconds, 4),
		at.Add(time.Hour)); err != nil {
		return err
	}
	facts, err := json.MarshalIndent(map[string]any{
		"archive": "Saltmarsh Sound Archive", "site": site, "voice": voice, "take": i + 1,
		"recorded": at, "seconds": math.Round(seconds), "channels": 1, "rate_hz": rateHz,
	}, "", "  ")
	if err != nil {
		return err
	}
	return keep(filepath.Join(dir, "studio/masters", stem+".json"), append(facts, '\n'), at.Add(2*time.Hour))
}

const rateHz = 48000

// wav writes a 16-bit mono recording: chirps over noise.
func wav(ctx context.Context, name string, seed uint64, seconds float64, at time.Time) error {
	samples := int(seconds * rateHz)
	data := make([]byte, 44, 44+2*samples)
	copy(data, "RIFF\x00\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00")
	le := func(at int, v uint32) {
		data[at], data[at+1], data[at+2], data[at+3] = byte(v), byte(v>>8), byte(v>>16), byte(v>>24)
	}
	le(4, uint32(36+2*samples))
	le(24, rateHz)
	le(28, rateHz*2)
	copy(data[32:], "\x02\x00\x10\x00data")
	le(40, uint32(2*samples))
	rng := mrand.New(mrand.NewPCG(seed, 7))
	phase, pitch := 0.0, 0.0
	for i := range samples {
		if i%4800 == 0 { // a new syllable ten times a second
			if ctx.Err() != nil {
				return ctx.Err()
			}
			pitch = 0.02 + rng.Float64()*0.3
		}
		phase += pitch
		v := int16(9000*math.Sin(phase)) + int16(rng.Uint32()>>20) - 2048
		data = append(data, byte(v), byte(v>>8))
	}
	return keep(name, data, at)
}

// tile writes one small spectrogram picture.
func tile(dir string, i int) error {
	rng := mrand.New(mrand.NewPCG(uint64(i), 11))
	img := image.NewGray(image.Rect(0, 0, 32, 32))
	ridge := rng.IntN(24)
	for y := range 32 {
		for x := range 32 {
			img.SetGray(x, y, color.Gray{uint8(max(0, 220-30*abs(y-ridge-x%5)) + rng.IntN(30))})
		}
	}
	name := filepath.Join(dir, "studio/tiles", fmt.Sprintf("z%d/%03d/%05d.png", i%4, i/40, i))
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := png.Encode(f, img); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	at := recorded(i / 4)
	return os.Chtimes(name, at, at)
}

func abs(n int) int { return max(n, -n) }

// keep writes a file with its modification time.
func keep(name string, data []byte, at time.Time) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(name, data, 0o644); err != nil {
		return err
	}
	return os.Chtimes(name, at, at)
}

const endpointsText = `# The Saltmarsh Sound Archive: where its recordings lie.
# All of it is made up. The stores are stand-ins that Lumtra starts on this
# machine when they are used; their lines are slowed down so that there is
# something to watch.

title = "Saltmarsh"

[endpoint.studio]
kind = "folder"
path = "studio"

[endpoint.field-cards]
kind = "folder"
path = "field-cards"

[endpoint.north-store]
kind = "s3"
stand-in = "stores/north"
access-key = "saltmarsh"
secret-from = "file:stores/north.secret"
speed = "40MB"
latency = "3ms"

[endpoint.hill-store]
kind = "blob"
stand-in = "stores/hill"
account = "saltmarsh"
secret-from = "file:stores/hill.secret"
speed = "60MB"
latency = "5ms"

[endpoint.tiles]
kind = "s3"
stand-in = "stores/tiles"
access-key = "saltmarsh"
secret-from = "file:stores/tiles.secret"
latency = "2ms"
`

var jobTexts = map[string]string{
	"nightly-masters": `# Every master recording and its sidecar, kept a second time in the north store.
source = "studio/masters"
target = "north-store/archive/masters"
compare-by = "size-and-time"
proof = "stored-checksum"

[limits]
streams = 8
part-size = "8MiB"

[when]
start = "daily at 01:30"
prove = true
`,
	"hill-copy": `# A second copy of the masters, in another house that speaks another protocol.
source = "north-store/archive/masters"
target = "hill-store/vault/masters"
compare-by = "size-and-time"
proof = "stored-checksum"

[limits]
streams = 8

[when]
start = "daily at 02:00"
`,
	"tiles-out": `# Thousands of tiny spectrogram tiles, for the web map.
source = "studio/tiles"
target = "tiles/map/tiles"
compare-by = "size-and-time"
proof = "stored-checksum"

[when]
start = "every 6 hours"
`,
	"field-cards-in": `# What came back from the field, into the studio's inbox.
source = "field-cards"
target = "studio/inbox"
compare-by = "content"
proof = "read-back"

[when]
start = "weekdays at 12:30, 18:30"
window = ["12:00-20:00 mon-fri"]
`,
}

const ratesText = `# What the stores would charge. All of it is made up, like the archive itself.
# Requests are for a thousand, bytes for a GB (1e9), storage for a GB and month.
currency = "EUR"

[rates.north-store]
example = true
lists = 0.0052
reads = 0.00042
writes = 0.0052
copies = 0.0052
egress = 0.081
retrieval = 0.012
storage = 0.0215

[rates.hill-store]
example = true
lists = 0.0049
reads = 0.0004
writes = 0.0049
copies = 0.0049
egress = 0.074
storage = 0.0178

[rates.tiles]
example = true
lists = 0.0052
reads = 0.00042
writes = 0.0052
egress = 0.081
storage = 0.0215
`

// templateText is what new mirror jobs begin with.
const templateText = `# A mirror: what is gone at the source goes to the trash at the target.
template = true
source = "studio/masters"
target = "hill-store/vault/mirror"
target-only = "trash"

[select]
exclude = ["**/*.tmp", "**/.*"]

[safety]
deletions = 50
deletion-share = 10
`

// buckets are made at the stores, since a job does not make its target's bucket.
var buckets = map[string][]string{"north-store": {"archive", "loans"}, "tiles": {"map"}, "hill-store": {"vault"}}

func writeWorkspace(dir string) error {
	for _, store := range []string{"north", "tiles", "hill"} {
		// Base64, since the Blob API's keys are.
		key := base64.StdEncoding.EncodeToString([]byte(rand.Text()))
		if err := os.WriteFile(filepath.Join(dir, "stores", store+".secret"), []byte(key+"\n"), 0o600); err != nil {
			return err
		}
	}
	for name, text := range jobTexts {
		if err := os.WriteFile(filepath.Join(dir, "jobs", name+".toml"), []byte(text), 0o644); err != nil {
			return err
		}
	}
	for name, text := range map[string]string{"endpoints.toml": endpointsText, "rates.toml": ratesText,
		"jobs/mirror.toml": templateText} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// Furnish makes the stores' buckets and marks the world as finished.
func Furnish(ctx context.Context, dir string, s *service.Service) error {
	for end, names := range buckets {
		for _, name := range names {
			if err := s.MakeBucket(ctx, end, name); err != nil && place.KindOf(err) != place.Exists {
				return err
			}
		}
	}
	if err := errors.Join(loans(ctx, s), past(ctx, s)); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(dir, unfinished)); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, marker), []byte(`{"world": "Saltmarsh Sound Archive", "made_up": true}`+
		"\n"), 0o644)
}
