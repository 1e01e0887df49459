package notify

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"mime"
	"mime/multipart"
	"net"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/secret"
)

// post is a mail server with one mailbox.
type post struct {
	mu   sync.Mutex
	got  []string
	deny func(try int) error // of each try, from 1
	try  int
}

func (p *post) NewSession(*smtp.Conn) (smtp.Session, error) { return &visit{post: p}, nil }

// visit is one conversation.
type visit struct {
	post *post
	in   bool
}

func (v *visit) AuthMechanisms() []string { return []string{sasl.Plain} }

func (v *visit) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != "saltmarsh" || password != "dusk chorus" {
			return &smtp.SMTPError{Code: 535, EnhancedCode: smtp.EnhancedCode{5, 7, 8}, Message: "not you"}
		}
		v.in = true
		return nil
	}), nil
}

func (v *visit) Mail(string, *smtp.MailOptions) error { return nil }
func (v *visit) Rcpt(string, *smtp.RcptOptions) error {
	v.post.mu.Lock()
	defer v.post.mu.Unlock()
	v.post.try++
	if v.post.deny != nil {
		return v.post.deny(v.post.try)
	}
	return nil
}

func (v *visit) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	v.post.mu.Lock()
	defer v.post.mu.Unlock()
	v.post.got = append(v.post.got, string(raw))
	return err
}
func (v *visit) Reset()        {}
func (v *visit) Logout() error { return nil }

// certificate is one for 127.0.0.1, and the file that has it.
func certificate(t *testing.T) (tls.Certificate, string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "post"}, IsCA: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), BasicConstraintsValid: true,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, &key.PublicKey, key)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, path
}

// serve runs the mail server; how is "none", "starttls" or "implicit".
func (p *post) serve(t *testing.T, how string) (addr, ca string) {
	cert, ca := certificate(t)
	s := smtp.NewServer(p)
	s.Domain, s.AllowInsecureAuth = "127.0.0.1", false
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	conf := &tls.Config{Certificates: []tls.Certificate{cert}}
	at := l.Addr().String()
	switch how {
	case "starttls":
		s.TLSConfig = conf
	case "implicit":
		l = tls.NewListener(l, conf)
	}
	ended := make(chan struct{})
	go func() { defer close(ended); _ = s.Serve(l) }()
	t.Cleanup(func() { s.Close(); <-ended })
	return at, ca
}

func mailTo(addr, ca, how string) *Settings {
	s := &Settings{Name: "office", Kind: "mail", Server: addr, TLS: how, From: "lumtra@saltmarsh.example",
		To: []string{"keeper@saltmarsh.example"}}
	if how != "none" {
		s.CAFile, s.User, s.SecretFrom = ca, "saltmarsh", "env:X"
	}
	return s
}

var told = &Message{ID: "run-masters-7", Kind: Failure, At: time.Date(2026, 3, 23, 2, 0, 0, 0, time.UTC),
	Title: "Saltmarsh",
	Job:   "masters", Subject: "Saltmarsh: masters done\r\nBcc: everybody@else.example",
	Text:  "9 objects\n1 failed <b>",
	Rates: []float64{1e6, 2e6, 0}}

// A mail goes in text and HTML with the rate's picture, over TLS with a password, or plainly; its
// subject cannot add headers.
func TestMail(t *testing.T) {
	for _, how := range []string{"starttls", "implicit", "none"} {
		t.Run(how, func(t *testing.T) {
			p := &post{}
			addr, ca := p.serve(t, how)
			s := mailTo(addr, ca, how)
			setting, what := s.Check()
			require.Empty(t, what, setting)
			require.NoError(t, Send(t.Context(), s, secret.New("dusk chorus"), told))
			require.Len(t, p.got, 1)
			m, err := mail.ReadMessage(strings.NewReader(p.got[0]))
			require.NoError(t, err)
			subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
			require.NoError(t, err)
			assert.Equal(t, "Saltmarsh: masters done Bcc: everybody@else.example", subject)
			assert.Empty(t, m.Header.Get("Bcc"))
			assert.Equal(t, "<run-masters-7@lumtra>", m.Header.Get("Message-ID"))
			assert.Contains(t, p.got[0], "1 failed &lt;b&gt;")
			assert.Contains(t, p.got[0], "image/png")
			kind, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
			require.NoError(t, err)
			assert.Contains(t, kind, "multipart/")
			_, err = multipart.NewReader(m.Body, params["boundary"]).NextPart()
			assert.NoError(t, err)
		})
	}
}

// What a mail server refuses for good is not tried again; what it puts off is.
func TestMailRefused(t *testing.T) {
	for name, c := range map[string]struct {
		deny      error
		password  string
		permanent bool
	}{
		"wrong password": {nil, "dawn chorus", true},
		"full mailbox": {&smtp.SMTPError{Code: 552, EnhancedCode: smtp.EnhancedCode{5, 2, 2},
			Message: "mailbox full"}, "dusk chorus", true},
		"greylisted": {&smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1},
			Message: "try again later"}, "dusk chorus", false},
	} {
		t.Run(name, func(t *testing.T) {
			p := &post{deny: func(int) error { return c.deny }}
			addr, ca := p.serve(t, "starttls")
			err := Send(t.Context(), mailTo(addr, ca, "starttls"), secret.New(c.password), told)
			require.Error(t, err)
			assert.Equal(t, c.permanent, errors.Is(err, ErrPermanent), "%v", err)
			assert.NotContains(t, err.Error(), c.password)
		})
	}
	s := mailTo("127.0.0.1:1", "", "none")
	err := Send(t.Context(), s, secret.Text{}, told)
	require.Error(t, err)
	assert.NotErrorIs(t, err, ErrPermanent, "a server that is down is waited for")
	p := &post{}
	addr, _ := p.serve(t, "none")
	other := mailTo(addr, "", "starttls")
	other.CAFile = ""
	assert.Error(t, Send(t.Context(), other, secret.New("dusk chorus"), told), "a password never goes without TLS")
	p = &post{}
	addr, _ = p.serve(t, "starttls")
	stranger := mailTo(addr, "", "starttls")
	stranger.CAFile = ""
	assert.Error(t, Send(t.Context(), stranger, secret.New("dusk chorus"), told), "nor to a server nobody vouches for")
	assert.Empty(t, p.got)
}

// Greylisting ends well on a later try, by the outbox; one that is refused for good is given up.
func TestOutboxRetries(t *testing.T) {
	p := &post{deny: func(try int) error {
		if try == 1 {
			return &smtp.SMTPError{Code: 451, Message: "later"}
		}
		return nil
	}}
	addr, ca := p.serve(t, "starttls")
	s := mailTo(addr, ca, "starttls")
	box, err := OpenOutbox(filepath.Join(t.TempDir(), "outbox.db"))
	require.NoError(t, err)
	defer box.Close()
	now := told.At
	ctx := context.Background()
	for range 3 { // put in often, told once
		require.NoError(t, box.Put(ctx, told, map[string]time.Time{"office": s.Due(now, told.Kind)}))
	}
	due, err := box.Due(ctx, now)
	require.NoError(t, err)
	assert.Empty(t, due, "a little is waited for more")
	for tries := 0; ; tries++ {
		require.Less(t, tries, 5)
		next, err := box.Next(ctx)
		require.NoError(t, err)
		if next.IsZero() {
			break
		}
		now = next
		due, err := box.Due(ctx, now)
		require.NoError(t, err)
		require.Len(t, due, 1)
		_, err = box.Tried(ctx, due, Send(ctx, s, secret.New("dusk chorus"), &due[0].Message), now)
		require.NoError(t, err)
	}
	assert.Len(t, p.got, 1)
	all, err := box.List(ctx, 10)
	require.NoError(t, err)
	assert.Equal(t, [2]any{"sent", 2}, [2]any{all[0].State, all[0].Tries})

	other := *told
	other.ID = "run-masters-8"
	require.NoError(t, box.Put(ctx, &other, map[string]time.Time{"office": now}))
	due, err = box.Due(ctx, now)
	require.NoError(t, err)
	gaveUp, err := box.Tried(ctx, due, errors.New("still down"), now.Add(giveUpAfter+time.Hour))
	require.NoError(t, err)
	assert.True(t, gaveUp, "three days are enough")
	assert.True(t, bytes.Contains([]byte(func() string { l, _ := box.List(ctx, 10); return l[0].State + l[1].State }()),
		[]byte("given up")))
}
