package report_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/report"
	"lumtra/core/transfer"
)

// A document's text is text: names in any script come back from it as they are, or as
// escapes where no font has their letters.
func TestTextOfDocuments(t *testing.T) {
	reader, err := exec.LookPath("pdftotext")
	require.NoError(t, err, "make test installs it")
	names := []string{"café · øre.wav", "Αλυκή/κύμα.wav", "Солончак/волна.wav", "ſmall Ǆ ẞ", "\U0001f3b5.wav"}
	r := &history.Run{Job: "masters", Plan: 3, Began: time.Date(2026, 3, 2, 1, 0, 0, 0, time.UTC),
		Ended: time.Date(2026, 3, 2, 1, 5, 0, 0, time.UTC), End: history.Failures, Objects: 12, Bytes: 146 << 20,
		Failed:   5,
		Problems: []transfer.Problem{{Cause: "north: not allowed · 403", Advice: "ask", Count: 5, Keys: names}}}
	var doc bytes.Buffer
	require.NoError(t, report.Run(&doc, r, report.PDF))
	path := filepath.Join(t.TempDir(), "run.pdf")
	require.NoError(t, os.WriteFile(path, doc.Bytes(), 0o600))
	out, err := exec.Command(reader, "-layout", path, "-").Output()
	require.NoError(t, err)
	text := string(out)
	for _, name := range names[:4] {
		assert.Contains(t, text, name)
	}
	assert.Contains(t, text, "5 × north: not allowed · 403")
	assert.Contains(t, text, `\U0001f3b5.wav`)
	assert.NotContains(t, text, "Â")
	assert.Less(t, doc.Len(), 200<<10, "of the fonts only what is used is in it")
	assert.Equal(t, 1, strings.Count(text, "Drawn by Lumtra."))
}
