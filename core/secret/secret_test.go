package secret

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func TestNeverShown(t *testing.T) {
	holder := struct{ Key Text }{New("reed-warbler-42")}
	js, _ := json.Marshal(holder)
	for _, shown := range []string{fmt.Sprint(holder), fmt.Sprintf("%+v %#v %s %q", holder, holder, holder.Key,
		holder.Key), string(js)} {
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

// What is kept comes back, to whoever has the key; the files give nothing away.
func TestStore(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "secrets")
	s := OpenStore(dir)
	all, err := s.List()
	require.NoError(t, err)
	assert.Empty(t, all)
	keep := func(label, secret string) {
		require.NoError(t,
			s.Keep(Credential{Kept: Kept{Label: label, Kind: KeyPair, Name: "AKMARSH"}, Secret: New(secret),
				Token: New("token-of-" + secret)}))
	}
	keep("north", "godwit-and-knot")
	keep("hill", "ring-ouzel")
	keep("north", "whimbrel-on-passage") // rotated
	assert.Error(t, s.Keep(Credential{Kept: Kept{Label: "No Good", Kind: KeyPair}, Secret: New("x")}))
	assert.Error(t, s.Keep(Credential{Kept: Kept{Label: "x", Kind: "other"}, Secret: New("x")}))
	check := func(s *Store) {
		all, err := s.List()
		require.NoError(t, err)
		require.Len(t, all, 2)
		assert.Equal(t, []string{"hill", "north"}, []string{all[0].Label, all[1].Label})
		assert.Equal(t, New("whimbrel-on-passage").Fingerprint(), all[1].Fingerprint)
		c, err := s.Get("north")
		require.NoError(t, err)
		assert.Equal(t, "whimbrel-on-passage", c.Secret.Reveal())
		assert.Equal(t, "token-of-whimbrel-on-passage", c.Token.Reveal())
		assert.Equal(t, "AKMARSH", c.Name)
		_, err = s.Get("nowhere")
		assert.ErrorIs(t, err, ErrNoCredential)
		require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, _ error) error {
			info, err := d.Info()
			require.NoError(t, err)
			assert.Zero(t, info.Mode()&0o077, path)
			if raw, err := os.ReadFile(path); err == nil {
				for _, hidden := range []string{"godwit", "whimbrel", "ring-ouzel", "saltmarsh at dawn"} {
					assert.NotContains(t, string(raw), hidden)
				}
			}
			return nil
		}))
	}
	check(s)
	check(OpenStore(dir)) // another process, unattended

	relock := func(s *Store, lock Lock, passphrase, at string) (left string) {
		left, err := s.Relock(lock, New(passphrase), at)
		require.NoError(t, err)
		return left
	}
	_, err = s.Relock(LockPassphrase, New("short"), "")
	assert.Error(t, err)
	relock(s, LockPassphrase, "saltmarsh at dawn", "")
	check(s)
	other := OpenStore(dir)
	_, err = other.Get("north")
	assert.ErrorIs(t, err, ErrLocked)
	how, locked, err := other.HowLocked()
	require.NoError(t, err)
	assert.True(t, locked && how == LockPassphrase)
	assert.ErrorIs(t, other.Unlock(New("saltmarsh at dusk")), ErrPassphrase)
	require.NoError(t, other.Unlock(New("saltmarsh at dawn")))
	check(other)
	at := filepath.Join(t.TempDir(), "lumtra.key")
	relock(other, LockFile, "", at)
	check(OpenStore(dir))
	_, err = other.Relock(LockFile, Text{}, at)
	assert.Error(t, err, "what is there is not overwritten")
	assert.Equal(t, at, relock(other, LockFile, "", ""))
	assert.FileExists(t, at, "what lies elsewhere is for a person to delete")
	check(OpenStore(dir))
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, files, 3, "vault, lock and one key: old keys are gone")

	require.NoError(t, s.Remove("hill"))
	assert.ErrorIs(t, s.Remove("hill"), ErrNoCredential)
}

// A file that somebody else has written to removes nothing, and has nothing sealed with
// another's key.
func TestForgedVault(t *testing.T) {
	for name, forge := range map[string]func(v *vault, precious string){
		"another's key": func(v *vault, _ string) {
			id, err := age.GenerateX25519Identity()
			require.NoError(t, err)
			v.Recipient = id.Recipient().String()
		},
		"another file":          func(v *vault, precious string) { v.KeyFile = precious },
		"a file further up":     func(v *vault, _ string) { v.KeyFile = "../precious" },
		"a pipe":                func(v *vault, precious string) { v.KeyFile = precious + ".pipe" },
		"a lock that is no key": func(v *vault, _ string) { v.KeyFile = "lock" },
	} {
		t.Run(name, func(t *testing.T) {
			top := t.TempDir()
			dir, precious := filepath.Join(top, "secrets"), filepath.Join(top, "precious")
			s := OpenStore(dir)
			north := Credential{Kept: Kept{Label: "north", Kind: KeyPair, Name: "AK"}, Secret: New("ring-ouzel")}
			require.NoError(t, s.Keep(north))
			require.NoError(t, os.WriteFile(precious, []byte("of the greatest worth"), 0o600))
			require.NoError(t, unix.Mkfifo(precious+".pipe", 0o600))
			require.NoError(t, s.change(func(v *vault) error { forge(v, precious); return nil }))
			before, err := os.ReadFile(filepath.Join(dir, vaultFile))
			require.NoError(t, err)

			s = OpenStore(dir)
			assert.Error(t, s.Keep(north))
			_, err = s.Get("north")
			assert.Error(t, err)
			_, err = s.Relock(LockFile, Text{}, "")
			assert.Error(t, err)
			after, err := os.ReadFile(filepath.Join(dir, vaultFile))
			require.NoError(t, err)
			assert.Equal(t, string(before), string(after))
			text, err := os.ReadFile(precious)
			require.NoError(t, err)
			assert.Equal(t, "of the greatest worth", string(text))
		})
	}
}
