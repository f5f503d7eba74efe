package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Setting is how a connection is reached in an environment, with the names of secrets in their places.
type Setting struct {
	Connection string
	Kind       string
	Chosen     map[string]string
	Page       string
	Version    int64
	ChangedBy  string
	ChangedAt  time.Time
}

const settingColumns = "connection, kind, chosen, page, version, changed_by, changed_at"

// SettingOf reads a connection's settings; ErrNotFound when it has none.
func SettingOf(ctx context.Context, db DB, s Scope, connection string) (Setting, error) {
	rows, _ := db.Query(ctx, "select "+settingColumns+" from setting where project = $1 and environment = $2 and connection = $3", s.Project, s.Environment, connection)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Setting]))
}

// SaveSetting keeps a connection's settings. from is the version that they were changed from, 0 for
// none; ErrChanged when somebody else was faster. A negative from replaces whatever is there.
func SaveSetting(ctx context.Context, db DB, s Scope, c Setting, from int64, by string) error {
	tag, err := db.Exec(ctx, `insert into setting (project, environment, connection, kind, chosen, page, changed_by) select $1, $2, $3, $4, $5, $6, $8
		where $7 <= 0 or exists (select from setting where project = $1 and environment = $2 and connection = $3)
		on conflict (project, environment, connection) do update set kind = excluded.kind, chosen = excluded.chosen, page = excluded.page,
			version = default, changed_by = excluded.changed_by, changed_at = now()
		where $7 < 0 or setting.version = $7`,
		s.Project, s.Environment, c.Connection, c.Kind, c.Chosen, c.Page, from, by)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrChanged
	}
	if err != nil {
		return err
	}
	return Publish(ctx, db, "setting "+s.String()+" "+c.Connection)
}

// Secret is what is told of a secret: never its content.
type Secret struct {
	Name      string
	Type      string
	About     string
	KeyID     string
	ExpiresAt *time.Time
	Version   int64
	ChangedBy string
	ChangedAt time.Time
	Uses      int // how often it was opened
	UsedAt    *time.Time
	UsedBy    string // the connection, or what else, that opened it last
}

const secretColumns = "name, type, about, key_id, expires_at, version, changed_by, changed_at, uses, used_at, used_by"

// Place is where a secret may be used: for a connection, at a host. An empty host is that of the next use.
type Place struct{ Connection, Host string }

// ByName is the place of secrets that flows name themselves: keys of their steps, tokens of their callers.
const ByName = "flows by name"

// SecretPlaces are the places for which a secret was given.
func SecretPlaces(ctx context.Context, db DB, s Scope, name string) ([]Place, error) {
	rows, _ := db.Query(ctx, "select connection, host from secret_place where project = $1 and environment = $2 and secret = $3 order by connection", s.Project, s.Environment, name)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Place])
}

// AllPlaces are the places of all secrets of an environment, by name.
func AllPlaces(ctx context.Context, db DB, s Scope) (map[string][]Place, error) {
	rows, err := db.Query(ctx, "select secret, connection, host from secret_place where project = $1 and environment = $2 order by secret, connection", s.Project, s.Environment)
	if err != nil {
		return nil, err
	}
	places := map[string][]Place{}
	var name string
	var p Place
	_, err = pgx.ForEachRow(rows, []any{&name, &p.Connection, &p.Host}, func() error {
		places[name] = append(places[name], p)
		return nil
	})
	return places, err
}

// PlaceSecret lets a secret be used at a place, and for that connection nowhere else.
func PlaceSecret(ctx context.Context, db DB, s Scope, name string, p Place) error {
	_, err := db.Exec(ctx, `insert into secret_place (project, environment, secret, connection, host) values ($1, $2, $3, $4, $5)
		on conflict (project, environment, secret, connection) do update set host = excluded.host`, s.Project, s.Environment, name, p.Connection, p.Host)
	return err
}

// UseSecret counts that a secret was opened, and by what. A count is not waited for until it is on disk: many callers use one
// token at once.
func UseSecret(ctx context.Context, db DB, s Scope, name, by string) error {
	_, err := db.Exec(ctx, "with quick as (select set_config('synchronous_commit', 'off', true)) update secret set uses = uses + 1, used_at = now(), used_by = $4 from quick where project = $1 and environment = $2 and name = $3", s.Project, s.Environment, name, by)
	return err
}

// Secrets lists the secrets of an environment by name.
func Secrets(ctx context.Context, db DB, s Scope) ([]Secret, error) {
	rows, _ := db.Query(ctx, "select "+secretColumns+" from secret where project = $1 and environment = $2 order by name", s.Project, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Secret])
}

// Sealed is a secret as it is kept.
type Sealed struct {
	Scope
	Name    string
	KeyID   string
	Content []byte
	Version int64
}

const sealedColumns = "project, environment, name, key_id, sealed, version"

// SealedSecret reads a secret; ErrNotFound when there is none of that name.
func SealedSecret(ctx context.Context, db DB, s Scope, name string) (Sealed, error) {
	rows, _ := db.Query(ctx, "select "+sealedColumns+" from secret where project = $1 and environment = $2 and name = $3", s.Project, s.Environment, name)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Sealed]))
}

// AllSealed reads every secret and locks them, to seal them anew.
func AllSealed(ctx context.Context, tx pgx.Tx) ([]Sealed, error) {
	rows, _ := tx.Query(ctx, "select "+sealedColumns+" from secret order by project, environment, name for update")
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Sealed])
}

// Reencrypt keeps a secret under another key.
func Reencrypt(ctx context.Context, tx pgx.Tx, s Sealed) error {
	_, err := tx.Exec(ctx, "update secret set key_id = $4, sealed = $5 where project = $1 and environment = $2 and name = $3", s.Project, s.Environment, s.Name, s.KeyID, s.Content)
	return err
}

// NamedSecret is SealedSecret and UseSecret in one, for a secret that has the place ByName; ErrNotFound where there is none, or
// where it does not have it.
func NamedSecret(ctx context.Context, db DB, s Scope, name, by string) (Sealed, error) {
	rows, _ := db.Query(ctx, `with quick as (select set_config('synchronous_commit', 'off', true))
		update secret s set uses = uses + 1, used_at = now(), used_by = $4 from quick where project = $1 and environment = $2 and name = $3
			and exists (select from secret_place p where p.project = s.project and p.environment = s.environment and p.secret = s.name and p.connection = $5)
		returning `+sealedColumns, s.Project, s.Environment, name, by, ByName)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Sealed]))
}

// SaveSecret keeps a secret, or replaces the one of its name.
func SaveSecret(ctx context.Context, db DB, s Sealed, as Secret) error {
	_, err := db.Exec(ctx, `insert into secret (project, environment, name, type, about, key_id, sealed, expires_at, changed_by) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		on conflict (project, environment, name) do update set type = excluded.type, about = case when excluded.about = '' then secret.about else excluded.about end, key_id = excluded.key_id, sealed = excluded.sealed,
			expires_at = excluded.expires_at, version = secret.version + 1, changed_by = excluded.changed_by, changed_at = now()`,
		s.Project, s.Environment, s.Name, as.Type, as.About, s.KeyID, s.Content, as.ExpiresAt, as.ChangedBy)
	if err != nil {
		return err
	}
	return Publish(ctx, db, "secret "+s.Scope.String()+" "+s.Name)
}

// DeleteSecret removes a secret.
func DeleteSecret(ctx context.Context, db DB, s Scope, name string) error {
	tag, err := db.Exec(ctx, "delete from secret where project = $1 and environment = $2 and name = $3", s.Project, s.Environment, name)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	if err != nil {
		return err
	}
	return Publish(ctx, db, "secret "+s.String()+" "+name)
}

// SecretUsers are the connections whose settings name a secret.
func SecretUsers(ctx context.Context, db DB, s Scope) (map[string][]string, error) {
	rows, err := db.Query(ctx, `select e.value, s.connection from setting s, jsonb_each_text(s.chosen) e
		where s.project = $1 and s.environment = $2 and exists (select from secret x where x.project = $1 and x.environment = $2 and x.name = e.value) order by 1, 2`, s.Project, s.Environment)
	if err != nil {
		return nil, err
	}
	users := map[string][]string{}
	var name, connection string
	_, err = pgx.ForEachRow(rows, []any{&name, &connection}, func() error {
		users[name] = append(users[name], connection)
		return nil
	})
	return users, err
}

// Health is how a connection was when it was last looked at.
type Health struct {
	Connection  string
	Healthy     bool
	ResponseMS  int
	Fault       string
	LastOKAt    *time.Time
	LastFaultAt *time.Time
	Since       time.Time
	CheckedAt   time.Time
}

// SaveHealth notes how connections are, and gives those that are otherwise than before.
func SaveHealth(ctx context.Context, db DB, s Scope, list ...Health) (changed []string, err error) {
	ids, wells, took, faults := make([]string, len(list)), make([]bool, len(list)), make([]int, len(list)), make([]string, len(list))
	for i, h := range list {
		ids[i], wells[i], took[i], faults[i] = h.Connection, h.Healthy, h.ResponseMS, h.Fault
	}
	rows, _ := db.Query(ctx, `with was as (select connection, healthy from health where project = $1 and environment = $2 and connection = any($3)),
		now_is as (insert into health as h (project, environment, connection, healthy, response_ms, fault, last_ok_at, last_fault_at)
			select $1, $2, n.connection, n.healthy, n.took, n.fault, case when n.healthy then now() end, case when not n.healthy then now() end
				from unnest($3::text[], $4::boolean[], $5::integer[], $6::text[]) n (connection, healthy, took, fault)
			on conflict (project, environment, connection) do update set healthy = excluded.healthy, response_ms = excluded.response_ms, fault = excluded.fault, checked_at = now(),
				last_ok_at = coalesce(excluded.last_ok_at, h.last_ok_at), last_fault_at = coalesce(excluded.last_fault_at, h.last_fault_at),
				since = case when h.healthy = excluded.healthy then h.since else now() end
			returning connection, healthy)
		select connection from now_is left join was using (connection) where was.healthy is distinct from now_is.healthy order by connection`,
		s.Project, s.Environment, ids, wells, took, faults)
	if changed, err = pgx.CollectRows(rows, pgx.RowTo[string]); err != nil {
		return nil, err
	}
	for _, id := range changed {
		if err := Publish(ctx, db, "health "+s.String()+" "+id); err != nil {
			return changed, err
		}
	}
	return changed, nil
}

// Healths reads how the connections of an environment were.
func Healths(ctx context.Context, db DB, s Scope) (map[string]Health, error) {
	rows, _ := db.Query(ctx, "select connection, healthy, response_ms, fault, last_ok_at, last_fault_at, since, checked_at from health where project = $1 and environment = $2", s.Project, s.Environment)
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Health])
	all := map[string]Health{}
	for _, h := range list {
		all[h.Connection] = h
	}
	return all, err
}

// Configured lists the connections that have settings in an environment, by project.
func Configured(ctx context.Context, db DB, environment string) (map[string][]string, error) {
	rows, err := db.Query(ctx, "select project, connection from setting where environment = $1 order by project, connection", environment)
	if err != nil {
		return nil, err
	}
	configured := map[string][]string{}
	var project, connection string
	_, err = pgx.ForEachRow(rows, []any{&project, &connection}, func() error {
		configured[project] = append(configured[project], connection)
		return nil
	})
	return configured, err
}
