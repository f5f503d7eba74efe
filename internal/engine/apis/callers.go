// Package apis guards the operations of published APIs: who calls, and how often they may.
package apis

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/store"
)

// Callers tells whose keys are, and remembers it for a while: a key that has ended, or a caller that is shut out, is refused at once
// where the process hears of changes, and within a few seconds in any case.
type Callers struct {
	db    *pgxpool.Pool
	mu    sync.Mutex
	known map[knownKey]knownCaller
}

type knownKey struct {
	scope       store.Scope
	digest      [sha256.Size]byte
	certificate bool
}

type knownCaller struct {
	caller store.APICaller
	ends   *time.Time
	none   bool
	read   time.Time
}

// Bounds on what is remembered.
const (
	believed  = 5 * time.Second
	mostKnown = 10_000
)

// NewCallers remembers nobody.
func NewCallers(db *pgxpool.Pool) *Callers {
	return &Callers{db: db, known: map[knownKey]knownCaller{}}
}

// Forget lets all be asked for anew.
func (c *Callers) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.known)
}

// NewKey makes a key, with what is kept of it: its digest and its first characters. It has 192 bits of chance.
func NewKey() (key string, digest []byte, hint string) {
	b := make([]byte, 24)
	rand.Read(b) // it never fails (crypto/rand)
	key = base64.RawURLEncoding.EncodeToString(b)
	return key, digestOf(key), key[:6]
}

func digestOf(key string) []byte {
	d := sha256.Sum256([]byte(key))
	return d[:]
}

// CertificateKey is what is kept of a certificate in PEM: its digest, whose it is, and its end.
func CertificateKey(text []byte) (digest []byte, hint string, ends time.Time, err error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, "", ends, fault.Expect(fault.Setting, "a certificate in PEM", "none").InField("certificate").WithFix("It begins with -----BEGIN CERTIFICATE-----; its private key stays with the caller")
	}
	cert, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, "", ends, fault.New(fault.Setting, "the certificate cannot be read: %s", err).InField("certificate")
	}
	d := sha256.Sum256(cert.Raw)
	return d[:], cmp.Or(cert.Subject.CommonName, cert.Subject.String(), hex.EncodeToString(d[:4])), cert.NotAfter, nil
}

// Reason is why a caller is not let in.
type Reason string

// The reasons.
const (
	Unknown   Reason = "the key is not known"
	Stranger  Reason = "the certificate is not known"
	Ended     Reason = "the key has ended"
	ShutOut   Reason = "the caller is disabled"
	NotForAPI Reason = "the caller may not call this API"
)

// Of finds whose key it is that came for an API, by its digest alone. The reason says why the caller is not let in; it is empty where it is.
func (c *Callers) Of(ctx context.Context, s store.Scope, key, apiID string, now time.Time) (store.APICaller, Reason, error) {
	return c.of(ctx, knownKey{s, sha256.Sum256([]byte(key)), false}, apiID, now)
}

// OfCertificate is Of for a certificate that a client has shown, and whose key it has. Whoever signed it does not matter: each is made
// known by itself.
func (c *Callers) OfCertificate(ctx context.Context, s store.Scope, der []byte, apiID string, now time.Time) (store.APICaller, Reason, error) {
	return c.of(ctx, knownKey{s, sha256.Sum256(der), true}, apiID, now)
}

func (c *Callers) of(ctx context.Context, key knownKey, apiID string, now time.Time) (store.APICaller, Reason, error) {
	k, err := c.find(ctx, key)
	switch {
	case err != nil:
		return k.caller, "", err
	case k.none && key.certificate:
		return k.caller, Stranger, nil
	case k.none:
		return k.caller, Unknown, nil
	case k.ends != nil && !now.Before(*k.ends):
		return k.caller, Ended, nil
	case k.caller.Disabled:
		return k.caller, ShutOut, nil
	case len(k.caller.APIs) > 0 && !slices.Contains(k.caller.APIs, apiID):
		return k.caller, NotForAPI, nil
	}
	return k.caller, "", nil
}

func (c *Callers) find(ctx context.Context, key knownKey) (knownCaller, error) {
	c.mu.Lock()
	k, there := c.known[key]
	c.mu.Unlock()
	if there && time.Since(k.read) < believed {
		return k, nil
	}
	k = knownCaller{read: time.Now()}
	var err error
	k.caller, k.ends, err = store.CallerByKey(ctx, c.db, key.scope, key.digest[:], key.certificate)
	if k.none = errors.Is(err, store.ErrNotFound); err != nil && !k.none {
		return k, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.known) >= mostKnown { // of keys that are tried out, too
		clear(c.known)
	}
	c.known[key] = k
	return k, nil
}
