package ledger_test

import (
	"fmt"
	"os"
	"path/filepath"

	"lumtra/core/ledger"
	"lumtra/core/object"
)

// A run that is cut off is gone on with by the next, from what the ledger says.
func Example() {
	dir, _ := os.MkdirTemp("", "")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "0001.ledger")

	var l ledger.Ledger
	l, _ = ledger.Open(path, "plan 1", false)
	l.Arrived(0, 300, object.Entry{Size: 300, ETag: "e0"})
	l.Try(1, 1, "no answer")
	l.Fail(1, "unreachable", "no answer")
	l.Close()

	l, _ = ledger.Open(path, "plan 1", false)
	defer l.Close()
	effects, bytes := l.Finished()
	fmt.Println(effects, "effect,", bytes, "bytes; is 1 done?", l.Done(1))
	failed, _ := l.Failures("", 0)
	fmt.Println(failed[0].Effect, failed[0].Cause, len(failed[0].Attempts), "attempt")
	// Output:
	// 1 effect, 300 bytes; is 1 done? false
	// 1 unreachable 1 attempt
}
