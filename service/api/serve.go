package api

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"lumtra/service/workspace"
)

// Remote says how the API is served over TCP: only over TLS, and only to who brings the token.
type Remote struct {
	Address, CertFile, KeyFile, Token string
}

// Serve serves a handler so until ctx ends; at once where no address is given.
func Serve(ctx context.Context, ws *workspace.Keeper, h http.Handler, r Remote) error {
	if r.Address == "" {
		return nil
	}
	if r.Token == "" {
		return workspace.BadInput(errors.New("the API is served over TCP only with a token"))
	}
	cert, err := tls.LoadX509KeyPair(r.CertFile, r.KeyFile)
	if err != nil {
		return workspace.BadInput(fmt.Errorf("the API is served over TCP only with a certificate: %w", err))
	}
	l, err := net.Listen("tcp", r.Address)
	if err != nil {
		return fmt.Errorf("the API cannot be served at %s: %w", r.Address, err)
	}
	// No limit for a whole request: it would end answers that take longer, as streams of events do.
	web := &http.Server{Handler: Guarded(r.Token, h), ReadHeaderTimeout: 5 * time.Second,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}}
	stop := context.AfterFunc(ctx, func() { _ = web.Close() })
	defer stop()
	ws.Log.Info("the API is served", "address", l.Addr().String())
	if err := web.ServeTLS(l, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
