package transfer_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/standin"
)

// begun is a run of one large object that has opened its upload and sent nothing of it.
func (w *world) begun(t *testing.T, size int) (*plan.Plan, place.Upload) {
	w.fill(t, 0, size)
	p := w.plan(t, w.folder, w.store)
	w.server.SetFaults(standin.Fault{Op: "UploadPart", Do: "500"})
	out, _ := w.run(t, ctx, p, w.folder, w.store, quick)
	require.EqualValues(t, 1, out.Failed)
	w.server.SetFaults()
	ups, err := w.store.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	require.Len(t, ups, 1)
	return p, ups[0]
}

// lay writes a part of an upload by hand.
func (w *world) lay(t *testing.T, up place.Upload, number int, text string) {
	_, err := w.store.(place.PartWriter).WritePart(ctx, up, number, int64(number-1)*quick.PartSize,
		strings.NewReader(text), int64(len(text)), object.Sum{})
	require.NoError(t, err)
}

// Parts that lie at the target count as sent only if they are as long as they have to be; the others are sent, once,
// and nothing else is.
func TestPartsOfAnotherSize(t *testing.T) {
	w := newWorld(t)
	p, up := w.begun(t, 23<<20)
	was := texts(t, w.folder)["masters/0.wav"]
	w.lay(t, up, 1, was[:5<<20-1])
	w.lay(t, up, 2, was[5<<20:10<<20])
	w.lay(t, up, 3, was[10<<20:15<<20]+"x")
	w.lay(t, up, 5, was[20<<20:]+"and more")
	w.lay(t, up, 9, "no part of this")
	out, m := w.run(t, ctx, p, w.folder, w.store, quick)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	same(t, texts(t, w.folder), texts(t, w.store))
	assert.EqualValues(t, len(was)-5<<20, m.Bytes, "the second was there")
	assert.Zero(t, m.Retries, "they are sent at once, and not after they did not fit")
}

// A part that was sent before is read again where a digest of the whole is wanted, and is held against what lies at
// the target: a source that changed without a sign of it is never joined to what it was, but sent from its start.
func TestPartsThatAreReadAgain(t *testing.T) {
	w := newWorld(t)
	p, up := w.begun(t, 13<<20)
	was := texts(t, w.folder)["masters/0.wav"]
	w.lay(t, up, 1, was[:5<<20])
	path := filepath.Join(w.dir, "masters/0.wav")
	info, err := os.Stat(path)
	require.NoError(t, err)
	file, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteAt([]byte("otherwise"), 100)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	require.NoError(t, os.Chtimes(path, info.ModTime(), info.ModTime()))
	opts := quick
	opts.Digest = object.BLAKE3
	out, m := w.run(t, ctx, p, w.folder, w.store, opts)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	assert.NotEqual(t, was, texts(t, w.folder)["masters/0.wav"])
	same(t, texts(t, w.folder), texts(t, w.store))
}

// A part that is as long as it has to be, and not what the source holds, is found by the sum of the whole, which the
// source keeps: it is read again, and sent again, alone.
func TestPartsThatAreMended(t *testing.T) {
	w := newWorld(t)
	from := newWorld(t).store
	text := strings.Repeat("a tide that comes and goes. ", 13<<20/28)
	write(t, from, "a.wav", text)
	p := w.plan(t, from, w.store)
	w.server.SetFaults(standin.Fault{Op: "UploadPart", Do: "500"})
	out, _ := w.run(t, ctx, p, from, w.store, quick)
	require.EqualValues(t, 1, out.Failed)
	w.server.SetFaults(standin.Fault{Op: "CreateMultipartUpload", Do: "500"}) // it is not begun anew
	ups, err := w.store.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	require.Len(t, ups, 1)
	w.lay(t, ups[0], 1, text[:5<<20])
	w.lay(t, ups[0], 2, strings.ToUpper(text[5<<20:10<<20]))
	out, m := w.run(t, ctx, p, from, w.store, quick)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	same(t, map[string]string{"a.wav": text}, texts(t, w.store))
	assert.EqualValues(t, 1, m.Retries)
}
