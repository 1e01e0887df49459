package main

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/testkit"
)

// freeAddress is an address on loopback at which nobody listens.
func freeAddress(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// A real store tells by its own event messages what was put there, and a job that would list it only
// once an hour copies it at once. `make interop` says where the server's program is.
func TestInteropEvents(t *testing.T) {
	server := os.Getenv("LUMTRA_INTEROP_EVENTS")
	if server == "" {
		t.Skip("make interop runs this")
	}
	at, told := freeAddress(t), freeAddress(t)
	dir := workspace(t, "http://127.0.0.1:1", map[string]string{
		"down": "source = \"real/takes/in\"\ntarget = \"dst\"\n[when]\nstart = \"on arrival\"\n" +
			"[when.arrival]\nsettle = \"100ms\"\nevery = \"1h\"\n"})
	put(t, dir, "key", "tide-table-77")
	put(t, dir, "token", "ebb+flow")
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	put(t, dir, "endpoints.toml", string(raw)+fmt.Sprintf("\n[endpoint.real]\nkind = \"s3\"\naddress = %q\n"+
		"access-key = \"interop\"\nsecret-from = \"file:key\"\n", "http://"+at))

	service := command(dir, "service", "--events", told, "--token-from", "file:"+filepath.Join(dir, "token"))
	require.NoError(t, service.Start())
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }()
	testkit.Until(t, func() bool { // the server sends a message when it starts, and wants an answer
		resp, err := http.Post("http://"+told+"/", "application/json", strings.NewReader("{}"))
		if err == nil {
			resp.Body.Close()
		}
		return err == nil
	})

	require.NoError(t, os.Mkdir(filepath.Join(dir, "store"), 0o755))
	ctx, stop := context.WithCancel(context.Background())
	gateway := exec.CommandContext(ctx, server, "--port", at, "--event-webhook-url",
		"http://"+told+"/?token=ebb%2Bflow", "posix", filepath.Join(dir, "store"))
	gateway.Env = append(os.Environ(), "ROOT_ACCESS_KEY=interop", "ROOT_SECRET_KEY=tide-table-77")
	require.NoError(t, gateway.Start())
	defer func() { stop(); _ = gateway.Wait() }()
	end, err := s3.NewStore(s3.Config{Name: "seen", Address: "http://" + at, AccessKey: "interop",
		Secret: secret.New("tide-table-77")})
	require.NoError(t, err)
	defer end.Close()
	testkit.Until(t, func() bool { return end.MakeBucket(t.Context(), "takes") == nil })
	p, err := end.Open("takes")
	require.NoError(t, err)
	for _, key := range []string{"in/dawn chorus+1.wav", "elsewhere/not.wav", "in/dusk/é.wav"} {
		store(t, p, key, "content of "+key, place.WriteOptions{})
		if strings.HasPrefix(key, "in/") {
			path := filepath.Join(dir, "dst", strings.TrimPrefix(key, "in/"))
			testkit.Until(t, func() bool { _, err := os.Stat(path); return err == nil }, func() any { return key })
			got, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, "content of "+key, string(got))
		}
	}
	assert.NoFileExists(t, filepath.Join(dir, "dst", "not.wav"))
}
