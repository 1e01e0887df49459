package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"lumtra/core/secret"
)

// patience is how long one try may take.
const patience = 30 * time.Second

// Send gives a message to a receiver, once. An error that another try would not mend is marked as
// [ErrPermanent].
func Send(ctx context.Context, s *Settings, key secret.Text, m *Message) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	switch s.Kind {
	case "mail":
		return sendMail(ctx, s, key, m)
	case "hook":
		return sendHook(ctx, s, key, m)
	}
	return runCommand(ctx, s, m)
}

// hookClient follows no redirects: a message with what is named in it goes where somebody said.
var hookClient = &http.Client{CheckRedirect: func(*http.Request,
	[]*http.Request) error {
	return http.ErrUseLastResponse
}}

// sendHook posts a CloudEvents 1.0 event. With a key it is signed by HMAC-SHA256 over
// "id.timestamp.body", in the header webhook-signature, beside webhook-id and webhook-timestamp.
func sendHook(ctx context.Context, s *Settings, key secret.Text, m *Message) error {
	body, err := cloudEvent(m)
	if err != nil {
		return permanent(err)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Address, bytes.NewReader(body))
	if err != nil {
		return permanent(err)
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	req.Header.Set("User-Agent", "lumtra")
	stamp := strconv.FormatInt(time.Now().Unix(), 10)
	req.Header.Set("webhook-id", m.ID)
	req.Header.Set("webhook-timestamp", stamp)
	if !key.Empty() {
		req.Header.Set("webhook-signature", "v1,"+Signature(key.Reveal(), m.ID, stamp, body))
	}
	resp, err := hookClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 300))
	if resp.StatusCode/100 == 2 {
		return nil
	}
	err = fmt.Errorf("the hook answered %s: %s", resp.Status, Line(string(said)))
	switch resp.StatusCode {
	case http.StatusRequestTimeout, http.StatusTooEarly, http.StatusTooManyRequests:
		return err
	}
	if resp.StatusCode < 500 {
		return permanent(err)
	}
	return err
}

// Signature is the base64 of the HMAC-SHA256 of "id.timestamp.body" by a key.
func Signature(key, id, stamp string, body []byte) string {
	h := hmac.New(sha256.New, []byte(key))
	fmt.Fprintf(h, "%s.%s.%s", id, stamp, body)
	return base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// runCommand runs a program with the message as JSON on its standard input, without a shell.
func runCommand(ctx context.Context, s *Settings, m *Message) error {
	body, err := json.Marshal(m)
	if err != nil {
		return permanent(err)
	}
	cmd := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
	cmd.Stdin = bytes.NewReader(append(body, '\n'))
	cmd.WaitDelay = time.Second
	said := &capped{}
	cmd.Stdout, cmd.Stderr = said, said
	err = cmd.Run()
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return fmt.Errorf("%s did not end in %s", s.Command[0], patience)
	case errors.Is(err, exec.ErrNotFound), errors.Is(err, os.ErrNotExist), errors.Is(err, os.ErrPermission):
		return permanent(err)
	}
	return fmt.Errorf("%s: %w: %s", s.Command[0], err, Line(said.String()))
}

// capped keeps the beginning of what a program says.
type capped struct{ bytes.Buffer }

func (c *capped) Write(p []byte) (int, error) {
	if room := 300 - c.Len(); room > 0 {
		c.Buffer.Write(p[:min(len(p), room)])
	}
	return len(p), nil
}

// sendMail sends a mail in text and HTML, with a picture of the rate where there is one.
func sendMail(ctx context.Context, s *Settings, key secret.Text, m *Message) error {
	msg := mail.NewMsg()
	if err := errors.Join(msg.From(s.From), msg.To(s.To...)); err != nil {
		return permanent(err)
	}
	msg.Subject(Line(m.Subject))
	msg.SetDateWithValue(m.At)
	msg.SetMessageIDWithValue(m.ID + "@lumtra")
	msg.SetBodyString(mail.TypeTextPlain, m.Text+"\n")
	page, picture, err := htmlOf(m)
	if err != nil {
		return permanent(err)
	}
	msg.AddAlternativeString(mail.TypeTextHTML, page)
	if picture != nil {
		if err := msg.EmbedReader("rate.png", bytes.NewReader(picture),
			mail.WithFileContentID("rate.png")); err != nil {
			return permanent(err)
		}
	}
	client, err := mailClient(s, key)
	if err != nil {
		return permanent(err)
	}
	err = client.DialAndSendWithContext(ctx, msg)
	var refused *mail.SendError
	if errors.As(err, &refused) && !refused.IsTemp() && refused.ErrorCode() >= 500 {
		return permanent(err)
	}
	if err != nil && strings.Contains(err.Error(), " 535 ") || err != nil && strings.Contains(err.Error(), "535 ") {
		return permanent(fmt.Errorf("the mail server does not take user and password: %w", err))
	}
	return err
}

func mailClient(s *Settings, key secret.Text) (*mail.Client, error) {
	host, port, err := net.SplitHostPort(s.Server)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	conf := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if s.CAFile != "" {
		pem, err := os.ReadFile(s.CAFile)
		if err != nil {
			return nil, err
		}
		conf.RootCAs = x509.NewCertPool()
		if !conf.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s has no certificates", s.CAFile)
		}
	}
	opts := []mail.Option{mail.WithPort(n), mail.WithTimeout(patience), mail.WithTLSConfig(conf)}
	switch s.TLS {
	case "implicit":
		opts = append(opts, mail.WithSSL())
	case "none":
		opts = append(opts, mail.WithTLSPolicy(mail.NoTLS))
	default:
		opts = append(opts, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if s.User != "" {
		opts = append(opts, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.User),
			mail.WithPassword(key.Reveal()))
	}
	return mail.NewClient(host, opts...)
}
