package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/creack/pty"

	"lumtra/demo"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// measureWindow times the interface from outside, through a pseudo-terminal:
// from the start of the process to the first painted screen, and from a key to
// its answer while a run goes at full speed.
func measureWindow(dir, program string) error {
	defer os.RemoveAll(dir)
	if err := demo.Build(ctx, dir, demo.Usual); err != nil {
		return err
	}
	if err := furnish(dir); err != nil {
		return err
	}
	var paints []time.Duration
	for range 5 {
		w, err := open(program, dir)
		if err != nil {
			return err
		}
		took, err := w.until("Lumtra")
		if err != nil {
			return err
		}
		paints = append(paints, took)
		w.close()
	}
	fmt.Printf("First paint after process start (median of %d): %.0f ms, slowest %.0f ms\n", len(paints),
		ms(median(paints)), ms(slices.Max(paints)))
	return measureKeys(program, dir)
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// furnish makes the buckets, lifts the demo's speed limits, and plans.
func furnish(dir string) error {
	endpoints := filepath.Join(dir, "endpoints.toml")
	raw, err := os.ReadFile(endpoints)
	if err != nil {
		return err
	}
	raw = bytes.ReplaceAll(raw, []byte("speed = \"40MB\"\n"), nil)
	raw = bytes.ReplaceAll(raw, []byte("latency = \"3ms\"\n"), nil)
	if err := os.WriteFile(endpoints, raw, 0o644); err != nil {
		return err
	}
	// More to copy than can be done before the keys are answered.
	masters := filepath.Join(dir, "studio", "masters")
	data := make([]byte, 24<<20)
	for i := range 40 {
		if err := os.WriteFile(filepath.Join(masters, fmt.Sprintf("long dawn %03d.wav", i)), data, 0o644); err != nil {
			return err
		}
	}
	for i := range 40_000 {
		name := filepath.Join(masters, fmt.Sprintf("minutes/%03d/%05d.json", i/200, i))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, data[:2048], 0o644); err != nil {
			return err
		}
	}
	s, err := service.Open(workspace.Options{Workspace: dir, State: stateOf(dir)})
	if err != nil {
		return err
	}
	_, planErr := s.Plan(ctx, demo.Job, workroom.Freshness{}, &workroom.Activity{})
	if planErr != nil {
		if err := demo.Furnish(ctx, dir, s); err != nil {
			return err
		}
		_, planErr = s.Plan(ctx, demo.Job, workroom.Freshness{}, &workroom.Activity{})
	}
	return errors.Join(planErr, s.Close())
}

// stateOf is where the state of a world made here lies: inside, to go with it.
func stateOf(dir string) string { return filepath.Join(dir, "state") }

func measureKeys(program, dir string) error {
	w, err := open(program, dir)
	if err != nil {
		return err
	}
	defer w.close()
	for _, step := range []struct{ key, see string }{{"", "nightly-masters"}, {"jj", ""}, {"4", "approved"},
		{"a", "deletes"}, {"\r", "flight"}} {
		w.press(step.key)
		if step.see != "" {
			if _, err := w.until(step.see); err != nil {
				return err
			}
		}
	}
	var answers []time.Duration
	for i := range 30 {
		key, see := "?", "everywhere"
		if i%2 == 1 {
			key, see = "x", "flight" // any key closes the help
		}
		w.press(key)
		took, err := w.until(see)
		if err != nil {
			return fmt.Errorf("the run was over, or the key was lost: %w", err)
		}
		answers = append(answers, took)
		time.Sleep(30 * time.Millisecond)
	}
	fmt.Printf("A key's answer while a run goes at full speed (%d keys): median %.0f ms, slowest %.0f ms\n",
		len(answers), ms(median(answers)), ms(slices.Max(answers)))
	return nil
}

// window is the program on a pseudo-terminal.
type window struct {
	cmd   *exec.Cmd
	tty   *os.File
	began time.Time
	mu    sync.Mutex
	seen  bytes.Buffer
	more  chan struct{}
}

func open(program, dir string) (*window, error) {
	w := &window{cmd: exec.CommandContext(context.Background(), program, "--workspace", dir, "--state", stateOf(dir)),
		more: make(chan struct{}, 1)}
	w.cmd.Env = append(os.Environ(), "TERM=xterm-256color", "LUMTRA_BACKGROUND=dark")
	w.began = time.Now()
	var err error
	if w.tty, err = pty.StartWithSize(w.cmd, &pty.Winsize{Rows: 46, Cols: 158}); err != nil {
		return nil, err
	}
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := w.tty.Read(buf)
			w.mu.Lock()
			w.seen.Write(buf[:n])
			w.mu.Unlock()
			select {
			case w.more <- struct{}{}:
			default:
			}
			if err != nil {
				return
			}
		}
	}()
	return w, nil
}

// press types a key; what was painted before does not count as its answer.
func (w *window) press(key string) {
	w.mu.Lock()
	w.seen.Reset()
	w.began = time.Now()
	w.mu.Unlock()
	w.tty.WriteString(key)
}

// until waits until a word was painted (a word: what is between words may have
// been there before, and is then skipped) and tells how long it took.
func (w *window) until(text string) (time.Duration, error) {
	deadline := time.After(20 * time.Second)
	for {
		w.mu.Lock()
		found := bytes.Contains(w.seen.Bytes(), []byte(text))
		w.mu.Unlock()
		if found {
			return time.Since(w.began), nil
		}
		select {
		case <-w.more:
		case <-deadline:
			return 0, fmt.Errorf("%q was never painted", text)
		}
	}
}

func (w *window) close() {
	w.cmd.Process.Signal(os.Interrupt)
	w.cmd.Process.Kill()
	w.cmd.Wait()
	w.tty.Close()
}
