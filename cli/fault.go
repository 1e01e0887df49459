package cli

import (
	"fmt"
	"runtime"
	"strings"
)

// guarded has a fault of Lumtra's own end a command as an error, with the place at which it happened. What
// a panic carries may come from anywhere, so that only what the language itself says is told.
func guarded(do func() error) (err error) {
	defer func() {
		p := recover()
		if p == nil {
			return
		}
		what := fmt.Sprintf("%T", p)
		if fault, ok := p.(runtime.Error); ok {
			what = fault.Error()
		}
		err = fmt.Errorf("a fault of Lumtra's own ended the command (%s, at %s); what was done stays done, and runs "+
			"can be gone on with", what, faultAt())
	}()
	return do()
}

// faultAt is where in Lumtra the panic that is being recovered from happened.
func faultAt() string {
	var at [64]uintptr
	frames := runtime.CallersFrames(at[:runtime.Callers(3, at[:])]) // behind the deferred function
	for {
		f, more := frames.Next()
		if strings.HasPrefix(f.Function, "lumtra/") {
			_, file, _ := strings.Cut(f.File, "/lumtra/")
			if file == "" {
				file = f.File[strings.LastIndexByte(f.File, '/')+1:]
			}
			return fmt.Sprintf("%s:%d", file, f.Line)
		}
		if !more {
			return "a place not known"
		}
	}
}
