package frame

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"runtime"
	"runtime/debug"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/tui/kit"
)

// A fault of Lumtra's own must not take the terminal with it, nor what is under way:
// one in a command is told, and the window goes on; after one while a message is taken
// in, or the window drawn, nobody knows what the views hold, and the window closes in
// order. Either way a report is left.

// faultMsg tells of a fault in a command.
type faultMsg struct{ report string }

// guard has a command's faults caught, and those of the commands it makes.
func (m *model) guard(cmd tea.Cmd) tea.Cmd {
	if cmd == nil {
		return nil
	}
	return func() (msg tea.Msg) {
		defer func() {
			if p := recover(); p != nil {
				msg = faultMsg{m.report("a command", p)}
			}
		}()
		msg = cmd()
		// Batches and sequences are lists of commands, the latter of a type without a
		// name for others.
		if all := reflect.ValueOf(msg); all.IsValid() && all.Kind() == reflect.Slice &&
			all.Type().Elem() == reflect.TypeFor[tea.Cmd]() {
			for i := range all.Len() {
				all.Index(i).Set(reflect.ValueOf(m.guard(all.Index(i).Interface().(tea.Cmd))))
			}
		}
		return msg
	}
}

// broke notes a fault that the window cannot go on after.
func (m *model) broke(where string, p any) {
	if m.fault == nil {
		m.fault = fmt.Errorf("a fault of Lumtra's own ended the window; what was done stays done, and runs can be "+
			"gone on with. %s", m.report(where, p))
	}
}

// report writes down a fault and says where. It has no values but Lumtra's own: what
// a panic carries may come from anywhere, so that only its type is told.
func (m *model) report(where string, p any) string {
	what := fmt.Sprintf("%T", p)
	if err, ok := p.(error); ok {
		if r := runtime.Error(nil); errors.As(err, &r) {
			what = r.Error()
		}
	}
	text := fmt.Sprintf("Lumtra, a fault in %s\n%s\nview %s, %d×%d\n%s %s/%s\n\n%s\n\n%s", where,
		time.Now().Format(time.RFC3339), m.view, m.width, m.height,
		runtime.Version(), runtime.GOOS, runtime.GOARCH, what, debug.Stack())
	dir := filepath.Join(m.shared.Service.State(), "faults")
	path := filepath.Join(dir, time.Now().UTC().Format("20060102-150405.000000")+".txt")
	err := os.MkdirAll(dir, 0o700)
	if err == nil {
		err = os.WriteFile(path, []byte(text), 0o600)
	}
	if err != nil {
		return "It could not be written down: " + err.Error()
	}
	return "A report, without secrets, is in " + path
}

// faulted tells of a fault in a command.
func (m *model) faulted(msg faultMsg) tea.Cmd {
	return kit.Cmd(kit.Say{Text: "A fault of Lumtra's own; the window goes on. " + msg.report, Bad: true})
}
