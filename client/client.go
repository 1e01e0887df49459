package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Client talks to one service. Its methods may be called from many goroutines.
type Client struct {
	http  *http.Client
	base  string
	token string
}

// Socket is a client of the service whose socket lies at a path: service.sock in the state folder.
// Only the user whose service it is can reach it.
func Socket(path string) *Client {
	return &Client{base: "http://service", http: &http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			name, done, err := SocketName(path)
			if err != nil {
				return nil, err
			}
			defer func() { _ = done() }()
			var d net.Dialer
			return d.DialContext(ctx, "unix", name)
		},
		IdleConnTimeout: time.Minute}}}
}

// SocketName is a name for a socket at a path by way of its folder, held open until done is called:
// the name of a socket has 107 bytes at the most (unix(7)), a path more.
func SocketName(path string) (name string, done func() error, err error) {
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d/%s", dir.Fd(), filepath.Base(path)), dir.Close, nil
}

// TLS is a client of the service at an address "https://host:port", with a token; conf may be nil.
func TLS(address, token string, conf *tls.Config) *Client {
	return &Client{base: strings.TrimRight(address, "/"), token: token,
		http: &http.Client{Transport: &http.Transport{TLSClientConfig: conf}}}
}

// Close lets connections go.
func (c *Client) Close() { c.http.CloseIdleConnections() }

func (c *Client) do(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/v1"+path, body)
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("the background service does not answer: %w", err)
	}
	if resp.StatusCode/100 == 2 {
		return resp, nil
	}
	defer resp.Body.Close()
	said := &Error{}
	if json.NewDecoder(io.LimitReader(resp.Body, 1<<16)).Decode(said) != nil || said.Text == "" {
		return nil, fmt.Errorf("the background service answered %s", resp.Status)
	}
	return nil, said
}

func call[T any](ctx context.Context, c *Client, method, path string, in any) (out T, err error) {
	resp, err := c.do(ctx, method, path, in)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	return out, json.NewDecoder(resp.Body).Decode(&out)
}

// About tells of the service.
func (c *Client) About(ctx context.Context) (About, error) {
	return call[About](ctx, c, http.MethodGet, "/about", nil)
}

// Endpoints are all, by name.
func (c *Client) Endpoints(ctx context.Context) ([]Endpoint, error) {
	return call[[]Endpoint](ctx, c, http.MethodGet, "/endpoints", nil)
}

// Jobs are all, by name.
func (c *Client) Jobs(ctx context.Context) ([]Job, error) {
	return call[[]Job](ctx, c, http.MethodGet, "/jobs", nil)
}

// Job is one.
func (c *Client) Job(ctx context.Context, name string) (Job, error) {
	return call[Job](ctx, c, http.MethodGet, "/jobs/"+url.PathEscape(name), nil)
}

// Plan is a job's plan by its number; 0 is the newest.
func (c *Client) Plan(ctx context.Context, job string, number int) (Plan, error) {
	return call[Plan](ctx, c, http.MethodGet, fmt.Sprintf("/jobs/%s/plans/%d", url.PathEscape(job), number), nil)
}

// Runs are a job's newest runs, newest first, with the one under way.
func (c *Client) Runs(ctx context.Context, job string) ([]Run, error) {
	return call[[]Run](ctx, c, http.MethodGet, "/jobs/"+url.PathEscape(job)+"/runs", nil)
}

// Proof is a job's newest proof.
func (c *Client) Proof(ctx context.Context, job string) (Proof, error) {
	return call[Proof](ctx, c, http.MethodGet, "/jobs/"+url.PathEscape(job)+"/proof", nil)
}

// Starts are the newest starts of jobs by themselves, newest first.
func (c *Client) Starts(ctx context.Context) ([]Start, error) {
	return call[[]Start](ctx, c, http.MethodGet, "/starts", nil)
}

// Coming are the starts of the coming week.
func (c *Client) Coming(ctx context.Context) ([]Coming, error) {
	return call[[]Coming](ctx, c, http.MethodGet, "/coming", nil)
}

// Make surveys both sides of a job and plans it, which may take long: ctx ends it.
func (c *Client) Make(ctx context.Context, job string, m Make) (Plan, error) {
	return call[Plan](ctx, c, http.MethodPost, "/jobs/"+url.PathEscape(job)+"/plans", m)
}

// Prove surveys both sides of a job and compares them, which may take long: ctx ends it.
func (c *Client) Prove(ctx context.Context, job string, p Prove) (Proof, error) {
	return call[Proof](ctx, c, http.MethodPost, "/jobs/"+url.PathEscape(job)+"/proofs", p)
}

// Begin begins to carry out a saved plan; what holds it back is an [*Error].
func (c *Client) Begin(ctx context.Context, job string, b Begin) error {
	resp, err := c.do(ctx, http.MethodPost, "/jobs/"+url.PathEscape(job)+"/runs", b)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// Steer changes a job's run under way.
func (c *Client) Steer(ctx context.Context, job string, s Steer) error {
	resp, err := c.do(ctx, http.MethodPost, "/jobs/"+url.PathEscape(job)+"/steer", s)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// Running are the runs under way.
func (c *Client) Running(ctx context.Context) ([]Progress, error) {
	return call[[]Progress](ctx, c, http.MethodGet, "/runs", nil)
}

// Run is a job's run under way, or the last that ended since the service began.
func (c *Client) Run(ctx context.Context, job string) (Progress, error) {
	return call[Progress](ctx, c, http.MethodGet, "/jobs/"+url.PathEscape(job)+"/run", nil)
}

// Follow tells how far a job's run is each time it has moved on, until it is over.
func (c *Client) Follow(ctx context.Context, job string) iter.Seq2[Progress, error] {
	return stream[Progress](ctx, c, "/jobs/"+url.PathEscape(job)+"/run/events")
}

// Events are what changes from now on, until ctx ends: server-sent events. The first tells that the
// service listens.
func (c *Client) Events(ctx context.Context) iter.Seq2[Event, error] {
	return stream[Event](ctx, c, "/events")
}

// longest is how long the data of a server-sent event may be, in bytes.
const longest = 64 << 20

// stream gives the data of server-sent events. Where the service ends it, the last is [io.EOF].
func stream[T any](ctx context.Context, c *Client, path string) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		var none T
		resp, err := c.do(ctx, http.MethodGet, path, nil)
		if err != nil {
			yield(none, err)
			return
		}
		defer resp.Body.Close()
		in := bufio.NewScanner(resp.Body)
		in.Buffer(nil, longest)
		for in.Scan() {
			data, ok := strings.CutPrefix(in.Text(), "data: ")
			if !ok {
				continue
			}
			var e T
			err := json.Unmarshal([]byte(data), &e)
			if !yield(e, err) || err != nil {
				return
			}
		}
		if err = in.Err(); err == nil {
			err = io.EOF
		}
		yield(none, err)
	}
}
