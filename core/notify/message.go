package notify

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"lumtra/core/object"
)

// Kind is what a message is about.
type Kind string

// The kinds. Recovery is the first success after failures; Silence that a job has not ended well for
// so long as somebody asked to be told of; Lag that what its target holds is older than that.
const (
	Failure     Kind = "failure"
	Success     Kind = "success"
	Recovery    Kind = "recovery"
	Guard       Kind = "guard" // a plan is held back, blocked, or waits for a person
	Missed      Kind = "missed"
	Credentials Kind = "credentials"
	Silence     Kind = "silence"
	Lag         Kind = "lag"
	Digest      Kind = "digest"
	Test        Kind = "test"
)

// Kinds are those that one can ask for.
var Kinds = []Kind{Failure, Success, Recovery, Guard, Missed, Credentials, Silence, Lag}

// Message is something that happened.
type Message struct {
	// ID names the occurrence; a message with it is told once to each receiver.
	ID      string    `json:"id"`
	Kind    Kind      `json:"kind"`
	At      time.Time `json:"at"`
	Title   string    `json:"workspace"` // of the workspace
	Job     string    `json:"job,omitempty"`
	Plan    int       `json:"plan,omitempty"`
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
	Objects int64     `json:"objects,omitempty"`
	Bytes   int64     `json:"bytes,omitempty"`
	Failed  int64     `json:"failed,omitempty"`
	Seconds float64   `json:"seconds,omitempty"`
	// Rates are bytes a second over the run, in equal steps.
	Rates []float64 `json:"rates,omitempty"`
	// Items are the messages that are told in one.
	Items []Message `json:"items,omitempty"`
}

// Joined makes one message of several: the newest state of what happened in a short time, told once.
// Its id is the first one's.
func Joined(all []Message, kind Kind, subject string) Message {
	if len(all) == 1 && kind == "" {
		return all[0]
	}
	m := Message{ID: all[0].ID, Kind: kind, At: all[len(all)-1].At, Title: all[0].Title, Subject: subject, Items: all}
	if kind == "" {
		m.Kind = all[0].Kind
		counts := map[Kind]int{}
		for i := range all {
			counts[all[i].Kind]++
		}
		var parts []string
		for _, k := range Kinds {
			if n := counts[k]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d × %s", n, k))
			}
		}
		m.Subject = fmt.Sprintf("%s: %s (%s)", m.Title, object.Count(len(all), "message"), strings.Join(parts, ", "))
	}
	var text strings.Builder
	for i := range all {
		fmt.Fprintf(&text, "%s  %s\n%s\n\n", all[i].At.Local().Format("Mon 2006-01-02 15:04 -07:00"), all[i].Subject,
			all[i].Text)
	}
	m.Text = strings.TrimSpace(text.String())
	return m
}

// Line is a text made fit for a header: in one line, without control characters, bounded.
func Line(text string) string {
	const most = 200
	text = object.Display(strings.Join(strings.Fields(text), " "))
	if r := []rune(text); len(r) > most {
		text = string(r[:most-1]) + "…"
	}
	return text
}

// cloudEvent is a message as a CloudEvents 1.0 event in JSON.
func cloudEvent(m *Message) ([]byte, error) {
	return json.Marshal(map[string]any{"specversion": "1.0", "id": m.ID, "source": "lumtra/" + m.Title,
		"type": "lumtra." + string(m.Kind), "time": m.At.UTC().Format(time.RFC3339Nano), "subject": m.Job,
		"datacontenttype": "application/json", "data": m})
}

// ErrPermanent marks a failure that another try would not mend.
var ErrPermanent = errors.New("it would fail again")

// permanent marks err as one that another try would not mend.
func permanent(err error) error { return fmt.Errorf("%w (%w)", err, ErrPermanent) }
