package service_test

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/secret"
	"lumtra/service"
	"lumtra/service/workspace"
	"lumtra/standin"
	"lumtra/testkit"
)

// A secret that the settings of a workspace name goes to an address only once a person
// has let it: each pair, once, kept credentials too.
func TestSecretsGoWhereTheyWereLet(t *testing.T) {
	address := func() string {
		server, err := standin.New(standin.Config{Dir: t.TempDir(),
			Keys: []standin.Key{{Access: "saltmarsh", Secret: secretText}}})
		require.NoError(t, err)
		at, err := server.Start("127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, server.Close()) })
		return at
	}
	here, there := address(), address()
	dir := t.TempDir()
	settings := func(at, signs string) {
		put(t, dir, "endpoints.toml", "[endpoint.north]\nkind = \"s3\"\naddress = \""+at+"\"\n"+signs+"\n")
	}
	const typed = "access-key = \"saltmarsh\"\nsecret-from = \"file:north.secret\""
	put(t, dir, "north.secret", secretText)
	settings(here, typed)
	list := func(trust bool) error {
		s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state"),
			Log: slog.New(slog.DiscardHandler), Trust: trust})
		require.NoError(t, err)
		defer func() { require.NoError(t, s.Close()) }()
		at, err := s.Place(ctx, "north/archive")
		if err == nil {
			_, err = at.Stat(ctx, ref("a"))
		}
		if place.KindOf(err) == place.NotFound { // it signed, and was answered
			return nil
		}
		return err
	}
	refused := func(err error) {
		t.Helper()
		assert.ErrorIs(t, err, workspace.ErrUnconfirmed)
		assert.ErrorIs(t, err, workspace.ErrBadInput)
	}
	refused(list(false))
	s := open(t, dir)
	asked, err := s.Unconfirmed()
	require.NoError(t, err)
	require.Len(t, asked, 1)
	assert.Equal(t, workspace.Use{Endpoint: "north", What: "file:" + filepath.Join(dir, "north.secret"),
		Address: here}, asked[0])
	_, err = s.Uses("nobody")
	assert.ErrorIs(t, err, workspace.ErrBadInput)
	require.NoError(t, s.Confirm(asked...))
	require.NoError(t, list(false))
	require.NoError(t, s.Confirm(asked...))
	raw, err := os.ReadFile(filepath.Join(dir, "state/trusted.jsonl"))
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(raw), "\n"), "once is enough")

	// Another address, another way there, another secret: each is asked anew.
	settings(there, typed)
	refused(list(false))
	settings(here, typed+"\nproxy = \""+there+"\"")
	refused(list(false))
	settings(here, typed+"\nca-file = \"own.pem\"")
	refused(list(false))
	settings(here, strings.Replace(typed, "north.secret", "/etc/hostname", 1))
	refused(list(false))
	settings(strings.ToUpper(here[:5])+here[5:]+"/", typed)
	assert.NotErrorIs(t, list(false), workspace.ErrUnconfirmed, "the same address, spelt otherwise")

	// A program that says so is asked nothing, then or later.
	settings(there, typed)
	require.NoError(t, list(true))
	require.NoError(t, list(false))

	// What a person types counts; what is kept goes where it was kept for.
	s = open(t, dir)
	kept := secret.Credential{Kept: secret.Kept{Label: "marsh", Kind: secret.KeyPair, Name: "saltmarsh"},
		Secret: secret.New(secretText)}
	require.NoError(t, s.SaveEndpoint("north", kind.Settings{Name: "north", Kind: "s3", Address: here}, &kept))
	require.NoError(t, list(false))
	settings(there, "credential = \"kept:marsh\"")
	refused(list(false))
	settings(here, "credential = \"kept:marsh\"")
	require.NoError(t, list(false))
	settings(here, "credential = \"chain\"")
	refused(list(false))

	// Another secret under the label of one that was removed has to be let again.
	s = open(t, dir)
	require.NoError(t, s.RemoveCredential("marsh"))
	require.NoError(t, s.KeepCredential(kept))
	settings(here, "credential = \"kept:marsh\"")
	refused(list(false))
}

// The way to the background service does not depend on how long its path is.
func TestFarSocket(t *testing.T) {
	dir := prepared(t)
	far := filepath.Join(dir, strings.Repeat("far/", 40), "state")
	open := func() *service.Service {
		s, err := service.Open(workspace.Options{Workspace: dir, State: far})
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, s.Close()) })
		return s
	}
	serving, stop := context.WithCancel(ctx)
	served := make(chan error)
	back, window := open(), open()
	go func() { served <- back.Serve(serving, service.ServeOptions{}) }()
	testkit.Until(t, func() bool { return window.Background(ctx) != nil })
	stop()
	assert.NoError(t, <-served)
}
