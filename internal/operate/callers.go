package operate

import (
	"context"
	"errors"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/engine/apis"
	"hollowreed/internal/store"
)

// AddCaller adds a program that may call APIs: those that are named, or all. It gives its first key, which is kept nowhere.
func (o Operator) AddCaller(ctx context.Context, name string, may []string) (key string, err error) {
	if name = strings.TrimSpace(name); name == "" || utf8.RuneCountInString(name) > maxName {
		return "", fault.Expect(fault.Required, "a name of at most 80 characters", fault.Quote(name)).InField("name")
	}
	c := store.APICaller{ID: uuid.Must(uuid.NewV7()), Name: name, APIs: may, MadeBy: o.Person}
	fresh, err := store.AddCaller(ctx, o.DB, o.Scope, c)
	if err != nil {
		return "", err
	}
	if !fresh {
		return "", store.ErrExists
	}
	if err := o.audit(ctx, "added the caller", nil, name); err != nil {
		return "", err
	}
	return o.AddCallerKey(ctx, c.ID, nil)
}

// AddCallerKey gives a caller another key, which may end at a time; the others stay as they are.
func (o Operator) AddCallerKey(ctx context.Context, caller uuid.UUID, ends *time.Time) (string, error) {
	key, digest, hint := apis.NewKey()
	if err := store.AddCallerKey(ctx, o.DB, o.Scope, store.CallerKey{Digest: digest, Caller: caller, Hint: hint, MadeBy: o.Person, EndsAt: ends}); err != nil {
		return "", err
	}
	return key, o.audit(ctx, "made a key of a caller", nil, hint+"…")
}

// AddCallerCertificate lets a caller show a certificate, in PEM; it ends with the certificate.
func (o Operator) AddCallerCertificate(ctx context.Context, caller uuid.UUID, text []byte) error {
	digest, hint, ends, err := apis.CertificateKey(text)
	if err != nil {
		return err
	}
	if !ends.After(time.Now()) {
		return fault.New(fault.Setting, "the certificate ended on %s", ends.UTC().Format(time.DateOnly)).InField("certificate").WithFix("Ask the caller for a new one")
	}
	switch other, _, err := store.CallerByKey(ctx, o.DB, o.Scope, digest, true); {
	case err == nil:
		return fault.New(fault.Setting, "the caller %s shows this certificate already", other.Name).InField("certificate")
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	k := store.CallerKey{Digest: digest, Caller: caller, Hint: hint, MadeBy: o.Person, EndsAt: &ends, Certificate: true}
	if err := store.AddCallerKey(ctx, o.DB, o.Scope, k); err != nil {
		return err
	}
	return o.audit(ctx, "made a certificate of a caller known", nil, hint)
}

// EndCallerKey lets a key end now or in a while, so that its caller can go over to another one.
func (o Operator) EndCallerKey(ctx context.Context, digest []byte, hint string, in time.Duration) error {
	if err := store.EndCallerKey(ctx, o.DB, o.Scope, digest, time.Now().Add(in)); err != nil {
		return err
	}
	return o.audit(ctx, "ended a key of a caller", nil, hint+"…")
}

// SetCaller says which APIs a caller may call, and whether it may call at all.
func (o Operator) SetCaller(ctx context.Context, c store.APICaller) error {
	if err := store.SetCaller(ctx, o.DB, o.Scope, c); err != nil {
		return err
	}
	return o.audit(ctx, map[bool]string{true: "disabled the caller", false: "changed the caller"}[c.Disabled], nil, c.Name)
}

// RemoveCaller removes a caller with its keys.
func (o Operator) RemoveCaller(ctx context.Context, c store.APICaller) error {
	if err := store.RemoveCaller(ctx, o.DB, o.Scope, c.ID); err != nil {
		return err
	}
	return o.audit(ctx, "removed the caller", nil, c.Name)
}

// NoteCall keeps a call of an API that was sent from its page.
func (o Operator) NoteCall(ctx context.Context, c store.SentCall) error {
	c.MadeBy = o.Person
	return store.AddSentCall(ctx, o.DB, o.Scope, c)
}

// EmptyCache lets go the responses that are kept of an API.
func (o Operator) EmptyCache(ctx context.Context, api string) error {
	return o.Engine.EmptyResponses(ctx, o.Scope, api)
}
