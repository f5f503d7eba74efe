package sql

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
)

// readable counts what the signed-in user may read.
const readable = `select count(*) from information_schema.tables
	where table_schema not in ('pg_catalog', 'information_schema') and has_table_privilege(format('%I.%I', table_schema, table_name), 'select')`

// Probe tries a database stage by stage: its name, its port, encryption, signing in, reading.
// Nothing of the address but host, port, user and database is told.
func Probe(ctx context.Context, r *probe.Run, c *pgx.ConnConfig, d *net.Dialer) {
	if len(c.Host) > 0 && c.Host[0] != '/' {
		r.Reach(ctx, d, c.Host, int(c.Port))
	}
	signIn(ctx, r, c)
}

// signIn connects once: what fails of it is told as encryption or as signing in.
func signIn(ctx context.Context, r *probe.Run, c *pgx.ConnConfig) {
	if !r.Passed() {
		return
	}
	c.ConnectTimeout = Timeout / 3
	began := time.Now()
	agreed := began
	c.AfterNetConnect = func(_ context.Context, _ *pgconn.Config, nc net.Conn) (net.Conn, error) {
		agreed = time.Now()
		return nc, nil
	}
	conn, err := pgx.ConnectConfig(ctx, c)
	if conn != nil {
		defer conn.Close(context.WithoutCancel(ctx))
	}
	unsafe := err
	why, is := system.Untrusted(err)
	if !is {
		unsafe = nil
	}
	r.Did("encryption agreed", agreed.Sub(began), encrypted(conn, c, why), unsafe, func(error) string { return system.TrustMends })
	r.Did("signed in", time.Since(agreed), signedIn(c, err), err, mendOf)
	r.Do("permission to read", func() (string, error) {
		n := 0
		if err := conn.QueryRow(ctx, readable).Scan(&n); err != nil {
			return "", err
		}
		if n == 0 {
			return "no table or view may be read", fault.New(fault.Setting, "nothing to read")
		}
		return fmt.Sprintf("%d tables and views may be read", n), nil
	}, func(error) string { return "Ask for the right to select" })
}

func signedIn(c *pgx.ConnConfig, err error) string {
	var refused *pgconn.PgError
	switch {
	case errors.As(err, &refused):
		return refused.Message
	case err != nil:
		return "the server ended the connection"
	}
	return fmt.Sprintf("as %s, to the database %s", c.User, c.Database)
}

func encrypted(conn *pgx.Conn, c *pgx.ConnConfig, why string) string {
	if why != "" {
		return why
	}
	if conn != nil {
		if t, ok := conn.PgConn().Conn().(*tls.Conn); ok {
			s := t.ConnectionState()
			with := ""
			if len(s.PeerCertificates) > 0 {
				with = " with " + s.PeerCertificates[0].Subject.CommonName
			}
			return tls.VersionName(s.Version) + with
		}
	}
	if c.TLSConfig == nil {
		return "not asked for"
	}
	return "asked for"
}

// mends are by the codes of PostgreSQL, appendix A.
var mends = map[string]string{
	"28P01": "The password is wrong, or the user is unknown", "28000": "The server does not let this user in from here (pg_hba.conf)",
	"3D000": "The server has no database of this name", "53300": "The server has as many connections as it allows",
	"57P03": "The server is starting or stopping; try again in a moment", "42501": "The user may not connect to this database",
}

func mendOf(err error) string {
	var refused *pgconn.PgError
	if errors.As(err, &refused) && mends[refused.Code] != "" {
		return mends[refused.Code]
	}
	return "Check user, password and database"
}

// mostOffers bounds what is listed at once.
const mostOffers = 500

// Catalogue lists the tables and views that can be read and the functions, whose names have a text in them.
func (db *DB) Catalogue(ctx context.Context, find string) ([]system.CatalogueEntry, error) {
	rows, err := db.pool.Query(ctx, `select case when t.table_schema = current_schema() then t.table_name::text else t.table_schema || '.' || t.table_name end,
		case t.table_type when 'VIEW' then 'view' else 'table' end, '', count(*) || ' columns'
		from information_schema.tables t join information_schema.columns c using (table_schema, table_name)
		where t.table_schema not in ('pg_catalog', 'information_schema') and has_table_privilege(format('%I.%I', t.table_schema, t.table_name), 'select')
			and position(lower($1) in lower(t.table_schema || '.' || t.table_name)) > 0
		group by 1, 2, t.table_schema, t.table_name
		union all select case when n.nspname = current_schema() then p.proname::text else n.nspname || '.' || p.proname end, 'function', '', pg_get_function_identity_arguments(p.oid)
		from pg_proc p join pg_namespace n on n.oid = p.pronamespace
		where n.nspname not in ('pg_catalog', 'information_schema') and p.prokind = 'f' and p.prorettype <> 'trigger'::regtype
			and has_function_privilege(p.oid, 'execute') and position(lower($1) in lower(p.proname)) > 0
		order by 2 desc, 1 limit $2`, find, mostOffers)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[system.CatalogueEntry])
}
