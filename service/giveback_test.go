package service

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Only the program's own code is given back: data that can only be read may have been written to before.
func TestCode(t *testing.T) {
	const self = "/usr/bin/lumtra"
	for line, want := range map[string][2]uintptr{
		"00400000-0191b000 r-xp 00000000 fe:00 1023 /usr/bin/lumtra":           {0x400000, 0x191b000},
		"0191b000-02c69000 r--p 0151b000 fe:00 1023      /usr/bin/lumtra":      {},
		"02c69000-0328b000 rw-p 02869000 fe:00 1023 /usr/bin/lumtra":           {},
		"7fa827b13000-7fa827c69000 r-xp 00026000 fe:00 32 /usr/lib/libc.so.6":  {},
		"7fa827b13000-7fa827c69000 r--p 00026000 fe:00 32 /opt/usr/bin/lumtra": {},
		"7fa7ddc8e000-7fa7ddd0e000 r--p 00000000 00:00 0":                      {},
		"0191b000-0x00 r--p 0151b000 fe:00 1023 /usr/bin/lumtra":               {},
		"02c69000-0191b000 r--p 0151b000 fe:00 1023 /usr/bin/lumtra":           {},
		"":                                {},
		"7ffd r--p 0 0 0 /usr/bin/lumtra": {},
		"00400000-0191b000 r-xp 0 fe:00 1 /usr/bin/lumtra (deleted)": {},
	} {
		from, to, ok := code(line, self)
		assert.Equal(t, want != [2]uintptr{}, ok, line)
		if ok {
			assert.Equal(t, want, [2]uintptr{from, to}, line)
		}
	}
	giveBack() // the test goes on with what is read again
}

// A service that ends before it has begun tidies nothing, and does not wait.
func TestTidyUpEnds(t *testing.T) {
	ended, end := context.WithCancel(t.Context())
	end()
	tidyUp(ended, make(chan struct{}), func() bool { t.Error("it was asked"); return false })
	begun, asked := make(chan struct{}), false
	close(begun)
	ctx, end := context.WithCancel(t.Context())
	tidyUp(ctx, begun, func() bool { asked = true; end(); return false })
	assert.True(t, asked)
}
