// Package vault keeps the settings and secrets of a project's environment: settings as they are, secrets
// sealed. It is where connections get them from; nothing else ever opens a secret.
package vault

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/secret"
	"hollowreed/internal/store"
)

// Vault is one environment's.
type Vault struct {
	DB   *pgxpool.Pool
	Ring *secret.Keyring
	store.Scope
}

var _ connector.Source = (*Vault)(nil)

// ForEnvironment gives the vault of another environment of the project.
func (v *Vault) ForEnvironment(env string) *Vault { return v.Of(v.Scope.In(env)) }

// Of gives the vault of another scope, which the same keys open.
func (v *Vault) Of(s store.Scope) *Vault { return &Vault{DB: v.DB, Ring: v.Ring, Scope: s} }

// bound is the name under which a secret is sealed: it cannot be put in another's place.
func bound(s store.Sealed) string { return s.Project + "\x00" + s.Environment + "\x00" + s.Name }

// Settings gives a connection's settings with its secrets.
func (v *Vault) Settings(ctx context.Context, id string) (*connector.Settings, error) {
	s, err := store.SettingOf(ctx, v.DB, v.Scope, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	up := &connector.Settings{Kind: s.Kind, Values: system.Values{}, Page: s.Page, Version: s.Version}
	k := connection.KindOf(s.Kind)
	if k == nil {
		return up, nil
	}
	place := store.Place{Connection: id, Host: HostOf(k, s.Chosen)}
	for _, set := range k.Settings {
		text := s.Chosen[set.Name]
		if set.Type == setting.Secret && text != "" {
			if err := v.ConfirmPlace(ctx, text, place); err != nil {
				return nil, err
			}
			if text, err = v.open(ctx, text, id); err != nil {
				return nil, err
			}
			up.Secrets = append(up.Secrets, text)
		}
		up.Values[set.Name] = text
	}
	return up, nil
}

// Get opens a secret that is used by name; it is empty where there is none of that name. One that was given for a connection is
// for nothing else, and one that is used by name for no connection.
func (v *Vault) Get(ctx context.Context, name string) (string, error) {
	s, err := store.NamedSecret(ctx, v.DB, v.Scope, name, "by name")
	if errors.Is(err, store.ErrNotFound) { // there is none, or it has no place yet, or another
		if err := v.ConfirmPlace(ctx, name, store.Place{Connection: store.ByName}); err != nil {
			return "", err
		}
		return v.open(ctx, name, "by name")
	}
	if err != nil {
		return "", err
	}
	return v.plain(s)
}

// open opens a secret, and counts that it was.
func (v *Vault) open(ctx context.Context, name, by string) (string, error) {
	s, err := store.SealedSecret(ctx, v.DB, v.Scope, name)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	plain, err := v.plain(s)
	if err != nil {
		return "", err
	}
	return plain, store.UseSecret(ctx, v.DB, v.Scope, name, by)
}

// plain is what was sealed.
func (v *Vault) plain(s store.Sealed) (string, error) {
	plain, err := v.Ring.Open(bound(s), s.KeyID, s.Content)
	if err != nil {
		return "", fault.New(fault.Setting, "the secret %s cannot be opened: %s", s.Name, err).WithFix("Give the key with which it was sealed, or write the secret anew")
	}
	return plain, nil
}

// Set keeps tokens that a system has given.
func (v *Vault) Set(ctx context.Context, name, plain string) error {
	return v.Save(ctx, store.Secret{Name: name, Type: "oauth tokens", ChangedBy: "the system"}, plain)
}

// Lock does something while no other process does the same.
func (v *Vault) Lock(ctx context.Context, name string, do func(context.Context) error) error {
	return pgx.BeginFunc(ctx, v.DB, func(tx pgx.Tx) error {
		if err := store.Long(ctx, tx, "wait for new tokens of "+name); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(hashtextextended($1, 0))", v.Scope.String()+"/"+name); err != nil {
			return err
		}
		return do(ctx)
	})
}

// Types are the types of secret.
var Types = []string{"password", "token", "key pair", "certificate", "OpenPGP key", "oauth tokens"}

var nameOK = regexp.MustCompile(`^[a-z0-9][a-z0-9 ._:-]{0,79}$`)

// maxSecret bounds one secret, in bytes.
const maxSecret = 64 << 10

// Save seals a secret under its name, in place of one that is there already.
func (v *Vault) Save(ctx context.Context, as store.Secret, plain string) error {
	switch {
	case !nameOK.MatchString(as.Name):
		return fault.Expect(fault.Setting, "a name of small letters, digits, blanks, dots and hyphens", fault.Quote(as.Name)).InField("Name")
	case plain == "":
		return fault.New(fault.Required, "the secret %s is empty", as.Name)
	case len(plain) > maxSecret:
		return fault.New(fault.Limit, "the secret %s is longer than %d bytes", as.Name, maxSecret)
	}
	if as.ExpiresAt == nil {
		as.ExpiresAt = expiry(as.Type, plain)
	}
	s := store.Sealed{Scope: v.Scope, Name: as.Name}
	s.KeyID, s.Content = v.Ring.Seal(bound(s), plain)
	return store.SaveSecret(ctx, v.DB, s, as)
}

// Rotate makes a new key the present one: every secret is sealed with it, and the ring is saved before and
// after, so that at no time a secret is sealed with a key that is not kept.
func Rotate(ctx context.Context, db *pgxpool.Pool, ring *secret.Keyring, path string) (n int, err error) {
	next, err := ring.With(secret.NewKey())
	if err != nil {
		return 0, err
	}
	if err := next.Save(path); err != nil {
		return 0, err
	}
	err = pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		all, err := store.AllSealed(ctx, tx)
		if err != nil {
			return err
		}
		for _, s := range all {
			plain, err := next.Open(bound(s), s.KeyID, s.Content)
			if err != nil {
				return fmt.Errorf("the secret %s of %s: %w", s.Name, s.Environment, err)
			}
			s.KeyID, s.Content = next.Seal(bound(s), plain)
			if err := store.Reencrypt(ctx, tx, s); err != nil {
				return err
			}
		}
		n = len(all)
		return nil
	})
	if err != nil {
		return 0, err // the ring keeps both keys; nothing was resealed
	}
	return n, next.CurrentOnly().Save(path)
}

// Soon is how long before a secret expires it is warned about.
const Soon = 30 * 24 * time.Hour
