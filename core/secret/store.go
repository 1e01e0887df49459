package secret

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"lumtra/core/atomicfile"

	"filippo.io/age"
	"golang.org/x/sys/unix"
)

// Kind says what a credential consists of.
type Kind string

// The kinds of credential that can be kept.
const (
	KeyPair      Kind = "key-pair"      // an access key with its secret, and a session token if it is temporary
	AccountKey   Kind = "account-key"   // an account's name with its key
	SignedAccess Kind = "signed-access" // the query of a signed address
)

// kinds are all of them.
var kinds = []Kind{KeyPair, AccountKey, SignedAccess}

// Kept are what may be shown of a kept credential.
type Kept struct {
	Label string `json:"label"`
	Kind  Kind   `json:"kind"`
	// Name is the access key or the account: not secret.
	Name string `json:"name,omitempty"`
	// Fingerprint tells the secret from others without giving it away.
	Fingerprint string    `json:"fingerprint"`
	Made        time.Time `json:"made"`
	Changed     time.Time `json:"changed"`
	// Until is when it runs out, if it says so.
	Until time.Time `json:"until,omitzero"`
}

// Credential is one with its secrets.
type Credential struct {
	Kept
	Secret, Token Text
}

var (
	// ErrLocked means that the passphrase is needed first.
	ErrLocked = errors.New("the kept credentials are locked: their passphrase is needed")
	// ErrPassphrase means that it was not the right one.
	ErrPassphrase = errors.New("this is not the passphrase of the kept credentials")
	// ErrNoCredential means that nothing is kept under a label.
	ErrNoCredential = errors.New("no credential is kept under this label")
)

// Lock says how the key that opens the credentials is itself kept.
type Lock string

// The ways.
const (
	// LockFile keeps it in a file beside the credentials, readable by the user
	// alone: it guards copies of the credentials, not the user's own account.
	LockFile Lock = "key-file"
	// LockPassphrase encrypts it with a passphrase.
	LockPassphrase Lock = "passphrase"
)

// Store keeps credentials in one folder, encrypted with age
// (https://age-encryption.org/v1). Its methods may be called from many
// goroutines and by several processes.
type Store struct {
	dir string

	mu       sync.Mutex
	identity *age.X25519Identity // once it is known
	of       string              // the recipient it belongs to
}

// OpenStore gives the store in dir, which is made with the first credential.
func OpenStore(dir string) *Store { return &Store{dir: dir} }

// vault is the file of a store.
type vault struct {
	// Recipient is the public half of the key everything is sealed with, and
	// names the file the other half lies in.
	Recipient   string   `json:"recipient"`
	Lock        Lock     `json:"lock"`
	KeyFile     string   `json:"key-file"`
	Credentials []sealed `json:"credentials"`
}

type sealed struct {
	Kept
	// Sealed is the age file with the secrets, in base64.
	Sealed string `json:"sealed"`
}

// inside is what is sealed.
type inside struct {
	Secret string `json:"secret"`
	Token  string `json:"token,omitempty"`
}

const vaultFile = "credentials.json"

func (s *Store) read() (*vault, error) {
	raw, err := readFile(filepath.Join(s.dir, vaultFile))
	if errors.Is(err, os.ErrNotExist) {
		return &vault{}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the kept credentials: %w", err)
	}
	v := &vault{}
	if err := json.Unmarshal(raw, v); err != nil {
		return nil, fmt.Errorf("the kept credentials in %s cannot be read: %w", filepath.Join(s.dir, vaultFile), err)
	}
	return v, nil
}

// change reads the vault, has it changed and writes it, with other processes
// kept out.
func (s *Store) change(how func(*vault) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return fmt.Errorf("the kept credentials: %w", err)
	}
	guard, err := os.OpenFile(filepath.Join(s.dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("the kept credentials: %w", err)
	}
	defer guard.Close()
	if err := unix.Flock(int(guard.Fd()), unix.LOCK_EX); err != nil {
		return fmt.Errorf("the kept credentials: %w", err)
	}
	v, err := s.read()
	if err != nil {
		return err
	}
	if err := how(v); err != nil {
		return err
	}
	raw, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(s.dir, vaultFile), raw, 0o600)
}

// List tells what is kept, by label. It needs no passphrase.
func (s *Store) List() ([]Kept, error) {
	v, err := s.read()
	if err != nil {
		return nil, err
	}
	var all []Kept
	for _, c := range v.Credentials {
		all = append(all, c.Kept)
	}
	return all, nil
}

var labels = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)

// checkLabel says what is wrong with a label.
func checkLabel(label string) error {
	if labels.MatchString(label) {
		return nil
	}
	return fmt.Errorf("a label is made of a-z, 0-9, - and _, up to 63 of them: %q", label)
}

// Keep seals a credential under its label, in place of the one that was there. Sealing
// takes only the public half of the key; but that it is the half of ours, and not of
// somebody who has written to the file, only the other half tells: [ErrLocked] where that
// needs its passphrase first.
func (s *Store) Keep(c Credential) error {
	if err := checkLabel(c.Label); err != nil {
		return err
	}
	if c.Secret.Empty() || !slices.Contains(kinds, c.Kind) {
		return fmt.Errorf("a credential has a kind (%v) and a secret", kinds)
	}
	return s.change(func(v *vault) error {
		if v.Recipient == "" {
			if err := s.newKey(v, LockFile, "", ""); err != nil {
				return err
			}
		}
		if _, err := s.keyLocked(v, ""); err != nil {
			return err
		}
		c.Fingerprint, c.Changed = c.Secret.Fingerprint(), time.Now().UTC().Truncate(time.Second)
		c.Made = c.Changed
		i, found := slices.BinarySearchFunc(v.Credentials, c.Label,
			func(x sealed, label string) int { return strings.Compare(x.Label, label) })
		if found {
			c.Made = v.Credentials[i].Made
			v.Credentials = slices.Delete(v.Credentials, i, i+1)
		}
		box, err := seal(v.Recipient, inside{c.Secret.Reveal(), c.Token.Reveal()})
		v.Credentials = slices.Insert(v.Credentials, i, sealed{c.Kept, box})
		return err
	})
}

// Get opens the credential under a label.
func (s *Store) Get(label string) (Credential, error) {
	v, err := s.read()
	if err != nil {
		return Credential{}, err
	}
	for _, c := range v.Credentials {
		if c.Label == label {
			id, err := s.key(v, "")
			if err != nil {
				return Credential{}, err
			}
			in, err := unseal(id, c.Sealed)
			return Credential{c.Kept, New(in.Secret), New(in.Token)}, err
		}
	}
	return Credential{}, fmt.Errorf("%w: %q", ErrNoCredential, label)
}

// Remove drops the credential under a label.
func (s *Store) Remove(label string) error {
	return s.change(func(v *vault) error {
		i := slices.IndexFunc(v.Credentials, func(c sealed) bool { return c.Label == label })
		if i < 0 {
			return fmt.Errorf("%w: %q", ErrNoCredential, label)
		}
		v.Credentials = slices.Delete(v.Credentials, i, i+1)
		return nil
	})
}

// HowLocked tells how the key is kept, and whether a passphrase is needed now.
func (s *Store) HowLocked() (lock Lock, locked bool, err error) {
	v, err := s.read()
	if err != nil || v.Recipient == "" {
		return LockFile, false, err
	}
	_, err = s.key(v, "")
	if errors.Is(err, ErrLocked) {
		return v.Lock, true, nil
	}
	return v.Lock, false, err
}

// Unlock takes the passphrase, once for the life of the Store.
func (s *Store) Unlock(passphrase Text) error {
	v, err := s.read()
	if err != nil || v.Recipient == "" {
		return err
	}
	_, err = s.key(v, passphrase.Reveal())
	return err
}

// Relock seals everything anew with a new key, and keeps that one in another
// way. The passphrase is for [LockPassphrase]; at names the key file for
// [LockFile], which must not be there yet, "" for one beside the credentials. The old key
// file is removed where it lies beside them; left is one that lies elsewhere, and is for a
// person to remove.
func (s *Store) Relock(lock Lock, passphrase Text, at string) (left string, err error) {
	if lock == LockPassphrase && len(passphrase.Reveal()) < 8 {
		return "", errors.New("a passphrase has eight characters or more")
	}
	old := ""
	err = s.change(func(v *vault) error {
		var plain []inside
		if v.Recipient != "" {
			id, err := s.keyLocked(v, "")
			if err != nil {
				return err
			}
			for _, c := range v.Credentials {
				in, err := unseal(id, c.Sealed)
				if err != nil {
					return err
				}
				plain = append(plain, in)
			}
		}
		old = v.KeyFile
		if err := s.newKey(v, lock, passphrase.Reveal(), at); err != nil {
			return err
		}
		for i := range v.Credentials {
			var err error
			if v.Credentials[i].Sealed, err = seal(v.Recipient, plain[i]); err != nil {
				return err
			}
		}
		return nil
	})
	switch {
	case err != nil || old == "":
		return "", err
	case !ownKey.MatchString(old): // wherever that leads
		return s.keyPath(old), nil
	}
	return "", os.Remove(s.keyPath(old)) // nothing is sealed with it any more
}

// ownKey is the name of a key file beside the credentials.
var ownKey = regexp.MustCompile(`^key-[a-z0-9]{12}(\.age)?$`)

// newKey makes a key, keeps it and names it in the vault. The caller writes the
// vault after it, so that a crash in between leaves the old key in force.
func (s *Store) newKey(v *vault, lock Lock, passphrase, at string) error {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	text := []byte(id.String() + "\n")
	name := "key-" + id.Recipient().String()[4:16]
	if lock == LockPassphrase {
		r, err := age.NewScryptRecipient(passphrase)
		if err != nil {
			return err
		}
		if text, err = encrypt(r, text); err != nil {
			return err
		}
		name += ".age"
	}
	if at != "" {
		if name, err = filepath.Abs(at); err == nil {
			err = writeNew(name, text)
		}
	} else {
		err = atomicfile.Write(filepath.Join(s.dir, name), text, 0o600)
	}
	if err != nil {
		return fmt.Errorf("the key of the kept credentials: %w", err)
	}
	v.Recipient, v.Lock, v.KeyFile = id.Recipient().String(), lock, name
	s.identity, s.of = id, v.Recipient
	return nil
}

// writeNew writes a file that must not be there, readable by the user alone.
func writeNew(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Sync(), f.Close())
}

// keyPath is where the vault's key lies: beside it, or where the user wants it.
func (s *Store) keyPath(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(s.dir, filepath.Base(name))
}

// key is the identity that opens the vault; a passphrase may be needed.
func (s *Store) key(v *vault, passphrase string) (*age.X25519Identity, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.keyLocked(v, passphrase)
}

func (s *Store) keyLocked(v *vault, passphrase string) (*age.X25519Identity, error) {
	if s.identity != nil && s.of == v.Recipient && passphrase == "" {
		return s.identity, nil
	}
	raw, err := readFile(s.keyPath(v.KeyFile))
	if err != nil {
		return nil, fmt.Errorf("the key of the kept credentials: %w", err)
	}
	if v.Lock == LockPassphrase {
		if passphrase == "" {
			return nil, ErrLocked
		}
		id, err := age.NewScryptIdentity(passphrase)
		if err != nil {
			return nil, err
		}
		if raw, err = decrypt(id, raw); err != nil {
			return nil, ErrPassphrase
		}
	}
	id, err := age.ParseX25519Identity(strings.TrimSpace(string(raw)))
	if err != nil {
		return nil, errors.New("the key of the kept credentials cannot be read")
	}
	if id.Recipient().String() != v.Recipient {
		return nil, fmt.Errorf("%s names another key than the one it is kept with: nothing is opened or kept until "+
			"it is mended, since somebody may have written to it",
			filepath.Join(s.dir, vaultFile))
	}
	s.identity, s.of = id, v.Recipient
	return id, nil
}

// largest is more than any file of a store needs.
const largest = 16 << 20

// readFile reads a file that has to be one, and of a size that makes sense.
func readFile(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0) // a pipe is not waited for
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > largest {
		return nil, fmt.Errorf("%s is not such a file", path)
	}
	return io.ReadAll(io.LimitReader(f, largest))
}

func seal(recipient string, in inside) (string, error) {
	to, err := age.ParseX25519Recipient(recipient)
	if err != nil {
		return "", err
	}
	raw, err := json.Marshal(in)
	if err != nil {
		return "", err
	}
	box, err := encrypt(to, raw)
	return base64.StdEncoding.EncodeToString(box), err
}

func unseal(id age.Identity, box string) (in inside, err error) {
	raw, err := base64.StdEncoding.DecodeString(box)
	if err == nil {
		raw, err = decrypt(id, raw)
	}
	if err != nil || json.Unmarshal(raw, &in) != nil {
		return in, errors.New("a kept credential cannot be opened with the key there is")
	}
	return in, nil
}

func encrypt(to age.Recipient, data []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	err = w.Close() // which writes the last of it
	return out.Bytes(), err
}

func decrypt(id age.Identity, data []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(data), id)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}
