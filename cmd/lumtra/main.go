// Command lumtra plans, runs and proves copies between object stores and
// folders. This package only wires the command line to the interface.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"lumtra/cli"
	"lumtra/tui/frame"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	code := cli.Main(ctx, os.Args[1:], os.Stdout, os.Stderr, frame.Run)
	stop()
	os.Exit(code)
}
