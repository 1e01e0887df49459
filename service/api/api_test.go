package api

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/client"
	"lumtra/service/event"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
)

func open(t *testing.T) (*workspace.Keeper, http.Handler) {
	dir := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	put("endpoints.toml", "[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n")
	put("jobs/masters.toml", "source = \"a/x\"\ntarget = \"a/y\"\n[when]\nstart = \"every 2 hours\"\n")
	ws, err := workspace.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	t.Cleanup(func() { ws.Life.End(); require.NoError(t, ws.Close()) })
	room := workroom.New(ws)
	return ws, New(ws, room, runs.New(ws, room)).Handler(t.Context())
}

// What is asked wrongly is told as that, with its kind and code; nothing is approved on the way.
func TestErrors(t *testing.T) {
	_, h := open(t)
	for ask, want := range map[string][2]any{
		"GET /v1/jobs/nobody":          {400, "input"},
		"GET /v1/jobs/masters/plans/0": {404, "missing"},
		"GET /v1/jobs/masters/plans/x": {400, "input"},
		"GET /v1/jobs/masters/proof":   {404, "missing"},
		"POST /v1/jobs/masters/runs":   {400, "input"},
		"POST /v1/jobs/masters/steer":  {400, "input"},
		"GET /v1/nothing":              {404, ""},
		"DELETE /v1/jobs/masters":      {405, ""},
	} {
		method, path, _ := strings.Cut(ask, " ")
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest(method, path, nil))
		assert.Equal(t, want[0], w.Code, "%s: %s", ask, w.Body)
		if want[1] != "" {
			assert.Contains(t, w.Body.String(), fmt.Sprintf("\"kind\":%q", want[1]), ask)
		}
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("POST", "/v1/jobs/masters/runs", strings.NewReader(`{"approve": 5}`)))
	assert.Equal(t, 400, w.Code, "%s", w.Body)
}

// What is told until the caller hangs up ends with the service, and an end of a run that is not known
// is told as that.
func TestStreams(t *testing.T) {
	ws, _ := open(t)
	room := workroom.New(ws)
	life, end := context.WithCancel(t.Context())
	defer end()
	web := httptest.NewServer(New(ws, room, runs.New(ws, room)).Handler(life))
	defer web.Close()
	c := client.TLS(web.URL, "", nil)
	defer c.Close()
	var said []client.Progress
	for p, err := range c.Follow(t.Context(), "masters") {
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		said = append(said, p)
	}
	require.Len(t, said, 1)
	assert.True(t, said[0].Over)
	assert.Equal(t, "input", said[0].Error.Kind)
	var last error
	var heard []string
	for e, err := range c.Events(t.Context()) {
		if last = err; err != nil {
			break
		}
		heard = append(heard, e.Event)
		if len(heard) == 1 {
			ws.Events.Publish(event.Event{Kind: event.PlanMade, Job: "masters"})
			continue
		}
		end()
	}
	assert.Equal(t, []string{"service-changed", "plan-made"}, heard)
	assert.ErrorIs(t, last, io.EOF)
	_, err := c.Make(t.Context(), "masters", client.Make{Fresh: -1})
	assert.ErrorContains(t, err, "from 0 on")
	_, err = c.Prove(t.Context(), "masters", client.Prove{Method: "hope"})
	assert.ErrorContains(t, err, "no way to prove")
}

// Over TCP it is served over TLS, and to who brings the token.
func TestRemote(t *testing.T) {
	ws, h := open(t)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), IsCA: true,
		BasicConstraintsValid: true, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, &key.PublicKey, key)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	dir := t.TempDir()
	cert, keyFile := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	pemCert := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	require.NoError(t, os.WriteFile(cert, pemCert, 0o600))
	require.NoError(t, os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600))

	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := free.Addr().String()
	require.NoError(t, free.Close())
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error)
	go func() { ended <- Serve(ctx, ws, h, Remote{address, cert, keyFile, "tide"}) }()
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(pemCert)
	conf := &tls.Config{RootCAs: roots}
	good, bad := client.TLS("https://"+address, "tide", conf), client.TLS("https://"+address, "ebb", conf)
	defer good.Close()
	defer bad.Close()
	var jobs []client.Job
	testkit.Until(t, func() bool { jobs, err = good.Jobs(ctx); return err == nil }, func() any { return err })
	assert.Equal(t, "every 2 hours", jobs[0].Starts)
	assert.False(t, jobs[0].Next.IsZero())
	_, err = bad.Jobs(ctx)
	var said *client.Error
	require.True(t, errors.As(err, &said), "%v", err)
	assert.Equal(t, "token", said.Kind)
	_, err = client.TLS("http://"+address, "tide", nil).Jobs(ctx)
	assert.Error(t, err, "not without TLS")
	cancel()
	require.NoError(t, <-ended)
	assert.ErrorContains(t, Serve(t.Context(), ws, h, Remote{Address: "127.0.0.1:0", Token: "x"}), "certificate")
	assert.ErrorContains(t, Serve(t.Context(), ws, h, Remote{Address: "127.0.0.1:0"}), "token")
	assert.NoError(t, Serve(t.Context(), ws, h, Remote{}))
}
