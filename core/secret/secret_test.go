package secret

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNeverShown(t *testing.T) {
	holder := struct{ Key Text }{New("reed-warbler-42")}
	js, _ := json.Marshal(holder)
	for _, shown := range []string{fmt.Sprint(holder), fmt.Sprintf("%+v %#v %s %q", holder, holder, holder.Key, holder.Key), string(js)} {
		assert.NotContains(t, shown, "reed-warbler")
		assert.Contains(t, shown, holder.Key.Fingerprint())
	}
}

func TestResolve(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	assert.NoError(t, os.WriteFile(file, []byte("curlew\n"), 0o600))
	t.Setenv("LUMTRA_TEST_KEY", "avocet")
	for ref, want := range map[string]string{"env:LUMTRA_TEST_KEY": "avocet", "file:" + file: "curlew"} {
		got, err := Resolve(ref)
		assert.NoError(t, err)
		assert.Equal(t, want, got.Reveal())
	}
	for _, ref := range []string{"", "curlew", "env:", "env:LUMTRA_NOT_SET", "file:/nowhere/at/all", "vault:x"} {
		_, err := Resolve(ref)
		assert.Error(t, err, ref)
	}
}
