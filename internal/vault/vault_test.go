package vault

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/secret"
	"hollowreed/internal/standin/trust"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

var scope = store.Scope{Project: "p", Environment: store.Environments[0]}

func open(t *testing.T) (*Vault, string) {
	t.Helper()
	ctx := t.Context()
	db, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(db.Close)
	require.NoError(t, store.AddPerson(ctx, db, store.Person{ID: "mira", Name: "Mira", Initials: "M"}))
	require.NoError(t, pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		_, err := store.AddProject(ctx, tx, "p", "P", map[string]string{"project.yaml": "project: P\n"}, "mira")
		return err
	}))
	path := filepath.Join(t.TempDir(), "key")
	ring, err := secret.Load(path)
	require.NoError(t, err)
	return &Vault{DB: db, Ring: ring, Scope: scope}, path
}

func TestSettingsGetTheirSecrets(t *testing.T) {
	v, _ := open(t)
	ctx := t.Context()
	up, err := v.Settings(ctx, "desk")
	require.NoError(t, err)
	require.Nil(t, up)
	require.NoError(t, v.Save(ctx, store.Secret{Name: "desk token", Type: "token", ChangedBy: "mira"}, "t-0-k-e-n"))
	require.NoError(t, v.ForEnvironment("Live").Save(ctx, store.Secret{Name: "desk token", Type: "token", ChangedBy: "mira"}, "live-one"))
	s := store.Setting{Connection: "desk", Kind: "http", Chosen: map[string]string{"address": "http://a.example", "sign in": "bearer token", "token": "desk token"}}
	require.NoError(t, store.SaveSetting(ctx, v.DB, scope, s, 0, "mira"))
	require.NoError(t, store.SaveSetting(ctx, v.DB, scope.In("Live"), s, 0, "mira"))
	up, err = v.Settings(ctx, "desk")
	require.NoError(t, err)
	require.Equal(t, "t-0-k-e-n", up.Values["token"])
	require.Equal(t, []string{"t-0-k-e-n"}, up.Secrets)
	live, err := v.ForEnvironment("Live").Settings(ctx, "desk")
	require.NoError(t, err)
	require.Equal(t, "live-one", live.Values["token"], "the same name is another secret in another environment")
	users, err := store.SecretUsers(ctx, v.DB, scope)
	require.NoError(t, err)
	require.Equal(t, map[string][]string{"desk token": {"desk"}}, users)

	require.ErrorIs(t, store.SaveSetting(ctx, v.DB, scope, s, up.Version+100, "mira"), store.ErrChanged, "nobody overwrites another")
	require.ErrorIs(t, store.SaveSetting(ctx, v.DB, scope, s, 0, "mira"), store.ErrChanged)
	require.NoError(t, store.SaveSetting(ctx, v.DB, scope, s, up.Version, "mira"))
	again, err := v.Settings(ctx, "desk")
	require.NoError(t, err)
	require.NotEqual(t, up.Version, again.Version)
}

func TestRotationSealsAnewAndRunningProcessesGoOn(t *testing.T) {
	v, path := open(t)
	ctx := t.Context()
	for _, name := range []string{"a", "b"} {
		require.NoError(t, v.Save(ctx, store.Secret{Name: name, Type: "password", ChangedBy: "mira"}, "word of "+name))
	}
	before := v.Ring.Current()
	ring, err := secret.Load(path)
	require.NoError(t, err)
	n, err := Rotate(ctx, v.DB, ring, path)
	require.NoError(t, err)
	require.Equal(t, 2, n)
	all, err := store.Secrets(ctx, v.DB, scope)
	require.NoError(t, err)
	for _, s := range all {
		require.NotEqual(t, before, s.KeyID)
		plain, err := v.Get(ctx, s.Name) // with the ring that was loaded before
		require.NoError(t, err)
		require.Equal(t, "word of "+s.Name, plain)
	}
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	only, err := secret.Parse(string(text))
	require.NoError(t, err)
	require.NotEqual(t, before, only.Current())
	other, err := secret.Parse(secret.NewKey())
	require.NoError(t, err)
	_, err = (&Vault{DB: v.DB, Ring: other, Scope: scope}).Get(ctx, "a")
	require.ErrorContains(t, err, "the secret a cannot be opened")
}

func TestWhatIsNoSecretIsRefused(t *testing.T) {
	v, _ := open(t)
	for name, plain := range map[string]string{"": "x", "Big": "x", "a\nb": "x", "ok": "", "long": string(make([]byte, maxSecret+1))} {
		require.Error(t, v.Save(t.Context(), store.Secret{Name: name, Type: "password", ChangedBy: "mira"}, plain), name)
	}
	a, err := trust.New()
	require.NoError(t, err)
	require.NoError(t, v.Save(t.Context(), store.Secret{Name: "c", Type: "certificate", ChangedBy: "mira"}, a.PEM))
	all, err := store.Secrets(t.Context(), v.DB, scope)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().AddDate(1, 0, 0), *all[0].ExpiresAt, 48*time.Hour, "a certificate tells until when it is valid")
}

func TestOneAtATimeRefreshes(t *testing.T) {
	v, _ := open(t)
	var mu sync.Mutex
	now, most := 0, 0
	var wg sync.WaitGroup
	for range 5 {
		wg.Go(func() {
			err := v.Lock(t.Context(), "x", func(ctx context.Context) error {
				mu.Lock()
				now++
				most = max(most, now)
				mu.Unlock()
				_, err := v.Get(ctx, "x")
				mu.Lock()
				now--
				mu.Unlock()
				return err
			})
			require.NoError(t, err)
		})
	}
	wg.Wait()
	require.Equal(t, 1, most)
}

// TestSecretsAreForAPlace: one that was given for a connection at a host is sent nowhere else, until somebody who knows it
// writes it there; each use is counted.
func TestSecretsAreForAPlace(t *testing.T) {
	v, _ := open(t)
	ctx := t.Context()
	require.NoError(t, v.Save(ctx, store.Secret{Name: "desk token", Type: "token", ChangedBy: "mira"}, "t-0-k-e-n"))
	keep := func(id, address string) {
		t.Helper()
		s := store.Setting{Connection: id, Kind: "http", Chosen: map[string]string{"address": address, "sign in": "bearer token", "token": "desk token"}}
		require.NoError(t, store.SaveSetting(ctx, v.DB, scope, s, -1, "mira"))
	}
	keep("desk", "http://A.example:80/x")
	for range 2 {
		_, err := v.Settings(ctx, "desk")
		require.NoError(t, err)
	}
	keep("desk", "http://a.example:80/other")
	_, err := v.Settings(ctx, "desk")
	require.NoError(t, err, "the same host")
	keep("desk", "http://evil.example")
	_, err = v.Settings(ctx, "desk")
	require.ErrorContains(t, err, "was given for desk at a.example:80, and not for evil.example")
	keep("other", "http://a.example:80")
	_, err = v.Settings(ctx, "other")
	require.ErrorContains(t, err, "was given for desk, and not for other")
	require.NoError(t, v.Place(ctx, "desk token", store.Place{Connection: "other", Host: "a.example:80"}))
	_, err = v.Settings(ctx, "other")
	require.NoError(t, err)
	require.NoError(t, v.Place(ctx, "desk token", store.Place{Connection: "desk", Host: "evil.example"}))
	_, err = v.Settings(ctx, "desk")
	require.NoError(t, err, "somebody has written it anew for that")
	list, err := store.Secrets(ctx, v.DB, scope)
	require.NoError(t, err)
	require.Equal(t, 5, list[0].Uses)
	require.Equal(t, "desk", list[0].UsedBy)
	require.NotNil(t, list[0].UsedAt)
	require.Equal(t, "db.example:5432", HostOf(connection.KindOf("sql"), map[string]string{"host": "DB.example", "port": "5432", "password": "x"}))
}

// TestSecretsByNameAreForNoConnection: what flows use by name cannot be sent by a connection, and the other way round, unless
// somebody writes it anew there.
func TestSecretsByNameAreForNoConnection(t *testing.T) {
	v, _ := open(t)
	ctx := t.Context()
	for _, name := range []string{"callers token", "desk token"} {
		require.NoError(t, v.Save(ctx, store.Secret{Name: name, Type: "token", ChangedBy: "mira"}, "t-0-k-e-n"))
	}
	for range 2 {
		plain, err := v.Get(ctx, "callers token")
		require.NoError(t, err)
		require.Equal(t, "t-0-k-e-n", plain)
	}
	desk := store.Place{Connection: "desk", Host: "a.example:80"}
	require.ErrorContains(t, v.ConfirmPlace(ctx, "callers token", desk), "was given for flows by name, and not for desk")
	require.NoError(t, v.ConfirmPlace(ctx, "desk token", desk))
	_, err := v.Get(ctx, "desk token")
	require.ErrorContains(t, err, "was given for desk, and not for flows by name")
	require.NoError(t, v.Place(ctx, "callers token", desk), "somebody has written it anew for that")
	require.NoError(t, v.ConfirmPlace(ctx, "callers token", desk))
	_, err = v.Get(ctx, "callers token")
	require.NoError(t, err)
	none, err := v.Get(ctx, "no such secret")
	require.NoError(t, err)
	require.Empty(t, none)
	list, err := store.Secrets(ctx, v.DB, scope)
	require.NoError(t, err)
	require.Equal(t, []int{3, 0}, []int{list[0].Uses, list[1].Uses})
	require.Equal(t, "by name", list[0].UsedBy)
}
