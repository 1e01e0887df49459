package wire

import (
	"errors"
	"io"
	"sync"
)

// Fence is a request body that can be taken away: once Down returns, the
// transport's write loop, which may outlive the response, gets nothing more
// from the reader beneath, and its buffer can be used again.
type Fence struct {
	mu     sync.Mutex
	body   io.Reader
	failed error // what the reader beneath returned, other than io.EOF
}

func (f *Fence) Read(b []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.body == nil {
		return 0, errors.New("the request is over")
	}
	n, err := f.body.Read(b)
	if err != nil && err != io.EOF {
		f.failed = err
	}
	return n, err
}

// Down takes the body away and tells what reading it failed with, if it did.
func (f *Fence) Down() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.body = nil
	return f.failed
}

// NewFence puts a fence before a body.
func NewFence(body io.Reader) *Fence { return &Fence{body: body} }
