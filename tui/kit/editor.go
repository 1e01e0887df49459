package kit

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"time"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/sys/unix"
)

// editorName is the person's editor, as the environment names it.
func editorName() string {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if editor := os.Getenv(name); editor != "" {
			return editor
		}
	}
	return "vi"
}

// Edit gives a file to the person's editor, which has the terminal meanwhile, and goes on with
// what done makes of how that ended.
func Edit(path string, done func(error) tea.Msg) tea.Cmd {
	name := editorName()
	return tea.Exec(&editor{exec.Command("sh", "-c", name+` "$1"`, "sh", path)}, func(err error) tea.Msg {
		if err != nil {
			err = fmt.Errorf("%s: %w", name, err)
		}
		return done(err)
	})
}

// editor is a command that has the terminal for a while.
type editor struct{ *exec.Cmd }

// leastAway is how long the terminal is given away at least. The library stops its clock for
// drawing on another goroutine, and starts it again when the terminal is back; where that comes
// first, as it may after an editor that ends at once on a machine with much to do, nothing is
// ever drawn again.
const leastAway = 200 * time.Millisecond

// Run runs it to its end.
func (e *editor) Run() error {
	began := time.Now()
	err := e.Cmd.Run()
	time.Sleep(leastAway - time.Since(began))
	// What was typed meanwhile was meant for the editor: here it would be keys, that delete and leave.
	if f, ok := e.Stdin.(*os.File); ok {
		_ = unix.IoctlSetInt(int(f.Fd()), unix.TCFLSH, unix.TCIFLUSH) // what is no terminal has nothing typed
	}
	return err
}

// SetStdin, SetStdout and SetStderr give it the terminal.
func (e *editor) SetStdin(r io.Reader) { e.Stdin = r }

// SetStdout see SetStdin.
func (e *editor) SetStdout(w io.Writer) { e.Stdout = w }

// SetStderr see SetStdin.
func (e *editor) SetStderr(w io.Writer) { e.Stderr = w }
