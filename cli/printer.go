package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
)

// printer tells events: as sentences, or as one JSON object a line.
// It may be used from many goroutines.
type printer struct {
	mu   sync.Mutex
	out  io.Writer
	json bool
}

func (p *printer) say(event string, fields map[string]any, sentence string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.json {
		fmt.Fprintln(p.out, sentence)
		return
	}
	if event == "" { // for people alone
		return
	}
	doc := map[string]any{"event": event, "time": time.Now().Format(time.RFC3339Nano)}
	maps.Copy(doc, fields)
	line, err := json.Marshal(doc)
	if err != nil { // a field that is no JSON is a mistake of ours
		line = fmt.Appendf(nil, `{"event":"error","message":%q}`, err)
	}
	p.out.Write(append(line, '\n'))
}

func bytesText(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }
func countText(n int64) string { return humanize.Comma(n) }
func plural(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return countText(n) + " " + many
}
