// Package secret encrypts secrets at rest and masks them in texts.
//
// A secret is sealed with AES-256 in Galois/Counter Mode (NIST SP 800-38D) under a key of the keyring;
// its name is bound to it, so that one secret cannot be put in another's place. The ring may hold
// older keys beside the present one, for as long as something is sealed with them.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// KeySize is the length of a key in bytes.
const KeySize = 32

// Keyring holds keys; the first is the present one.
type Keyring struct {
	mu   sync.Mutex
	keys []key
	path string // from which it was loaded; looked into again for a key that is not known yet
}

type key struct {
	id   string // the beginning of the key's SHA-256, so that it can be found again
	aead cipher.AEAD
	text string
}

// ErrKey is a secret that no key of the ring opens.
var ErrKey = errors.New("no key of the key ring opens it")

// NewKey makes a random key, in the text form that Parse reads.
func NewKey() string {
	b := make([]byte, KeySize)
	rand.Read(b)
	return base64.StdEncoding.EncodeToString(b)
}

// Parse reads keys, one a line or with commas between; the first is the present one.
func Parse(text string) (*Keyring, error) {
	r := &Keyring{}
	for _, s := range strings.FieldsFunc(text, func(c rune) bool { return c == ',' || c == '\n' || c == '\r' || c == ' ' }) {
		raw, err := base64.StdEncoding.DecodeString(s)
		if err != nil || len(raw) != KeySize {
			return nil, fmt.Errorf("a key must be %d bytes in base64", KeySize)
		}
		block, err := aes.NewCipher(raw)
		if err != nil {
			return nil, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256(raw)
		r.keys = append(r.keys, key{id: hex.EncodeToString(sum[:6]), aead: aead, text: s})
	}
	if len(r.keys) == 0 {
		return nil, errors.New("there is no key")
	}
	return r, nil
}

// Load reads the ring from a file that only its owner may read, and makes one where there is none.
func Load(path string) (*Keyring, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return create(path)
	case err != nil:
		return nil, err
	case info.Mode().Perm()&0o077 != 0:
		return nil, fmt.Errorf("the key file %s can be read by others (mode %o); make it 600", path, info.Mode().Perm())
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	r, err := Parse(string(text))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	r.path = path
	return r, nil
}

func create(path string) (*Keyring, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	r, err := Parse(NewKey())
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return Load(path) // another process was faster
	}
	if err != nil {
		return nil, err
	}
	r.path = path
	_, err = f.WriteString(r.text())
	return r, errors.Join(err, f.Sync(), f.Close())
}

func (r *Keyring) text() string {
	var lines []string
	for _, k := range r.keys {
		lines = append(lines, k.text)
	}
	return strings.Join(lines, "\n") + "\n"
}

// With gives a ring with a new present key before the others.
func (r *Keyring) With(text string) (*Keyring, error) { return Parse(text + "\n" + r.text()) }

// CurrentOnly gives a ring with the present key alone.
func (r *Keyring) CurrentOnly() *Keyring { return &Keyring{keys: r.keys[:1]} }

// Save writes the ring to its file: beside it first, then renamed.
func (r *Keyring) Save(path string) error {
	temp := path + ".new"
	if err := os.WriteFile(temp, []byte(r.text()), 0o600); err != nil {
		return err
	}
	return os.Rename(temp, path)
}

// Current is the id of the present key.
func (r *Keyring) Current() string { return r.keys[0].id }

// Seal encrypts a secret under its name.
func (r *Keyring) Seal(name, plain string) (keyID string, sealed []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k := r.keys[0]
	nonce := make([]byte, k.aead.NonceSize())
	rand.Read(nonce)
	return k.id, k.aead.Seal(nonce, nonce, []byte(plain), []byte(name))
}

// Open decrypts a secret.
func (r *Keyring) Open(name, keyID string, sealed []byte) (string, error) {
	k := r.find(keyID)
	if k == nil || len(sealed) < k.aead.NonceSize() {
		return "", ErrKey
	}
	n := k.aead.NonceSize()
	plain, err := k.aead.Open(nil, sealed[:n], sealed[n:], []byte(name))
	if err != nil {
		return "", ErrKey
	}
	return string(plain), nil
}

// find gives a key of the ring; one that another process has added is read from the file.
func (r *Keyring) find(id string) *key {
	r.mu.Lock()
	defer r.mu.Unlock()
	for range 2 {
		for i := range r.keys {
			if r.keys[i].id == id {
				return &r.keys[i]
			}
		}
		if r.path == "" {
			return nil
		}
		again, err := Load(r.path)
		if err != nil {
			return nil
		}
		r.keys = again.keys
	}
	return nil
}
