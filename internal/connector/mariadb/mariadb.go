// Package mariadb reaches MariaDB and MySQL databases, through database/sql and its standard driver. It does what
// package sql does for PostgreSQL, in the other's dialect.
package mariadb

import (
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
)

// DB is one database.
type DB struct {
	env    system.Env
	config *mysql.Config
	pool   *sql.DB
}

var (
	_ system.Caller          = (*DB)(nil)
	_ system.Reader          = (*DB)(nil)
	_ system.CatalogueReader = (*DB)(nil)
	_ system.Tables          = (*DB)(nil)
	_ system.Batcher         = (*DB)(nil)
)

// Open makes a database of its settings; nothing is connected before it is used.
func Open(env system.Env) (system.System, error) {
	c, err := configOf(env)
	if err != nil {
		return nil, err
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fault.New(fault.Setting, "the settings do not fit: %s", err)
	}
	db := &DB{env: env, config: c, pool: sql.OpenDB(connector)}
	db.pool.SetMaxOpenConns(env.Values.Int("connections", 8))
	db.pool.SetConnMaxIdleTime(time.Minute)
	return db, nil
}

func configOf(env system.Env) (*mysql.Config, error) {
	v := env.Values
	c := mysql.NewConfig()
	if v["by"] == "address" {
		parsed, err := mysql.ParseDSN(v["address"])
		if err != nil {
			return nil, fault.New(fault.Setting, "the database address cannot be read").WithFix("Write it as user:password@tcp(host:3306)/database")
		}
		c = parsed
	} else {
		for _, name := range []string{"host", "database", "user"} {
			if v[name] == "" {
				return nil, fault.New(fault.Required, "the connection has no %s", name).WithFix("Fill it in and save")
			}
		}
		c.Net, c.Addr, c.DBName, c.User, c.Passwd = "tcp", net.JoinHostPort(v["host"], fmt.Sprint(v.Int("port", 3306))), v["database"], v["user"], v["password"]
	}
	d := env.Net.Dialer()
	c.DialFunc = d.DialContext
	c.Timeout, c.ReadTimeout, c.WriteTimeout = 8*time.Second, v.Timeout(), v.Timeout()
	c.ParseTime, c.MultiStatements, c.AllowAllFiles = false, false, false
	c.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,ANSI_QUOTES'"}
	var err error
	switch v["encryption"] {
	case "always":
		host, _, _ := net.SplitHostPort(c.Addr)
		c.TLS, err = system.TLS(host, v["authority"], "")
	case "if offered":
		c.TLS, c.AllowFallbackToPlaintext = &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}, true // as the setting says: whoever it is
	}
	return c, err
}

// Close closes the pool.
func (db *DB) Close() { db.pool.Close() }

// Check asks whether the database answers.
func (db *DB) Check(ctx context.Context) error { return told(db.pool.PingContext(ctx)) }

// Probe tries the database stage by stage.
func (db *DB) Probe(ctx context.Context, r *probe.Run) {
	host, port := db.config.Addr, 3306
	if h, p, err := net.SplitHostPort(db.config.Addr); err == nil {
		host = h
		fmt.Sscan(p, &port)
	}
	r.Reach(ctx, db.env.Net.Dialer(), host, port)
	if !r.Passed() {
		return
	}
	began := time.Now()
	conn, err := db.pool.Conn(ctx)
	if conn != nil {
		defer conn.Close()
	}
	why, untrusted := system.Untrusted(err)
	var bad error
	if untrusted {
		bad = err
	}
	r.Did("encryption agreed", time.Since(began), encrypted(ctx, conn, why), bad, func(error) string { return system.TrustMends })
	r.Did("signed in", time.Since(began), signedIn(db.config, err), err, mendOf)
	r.Do("permission to read", func() (string, error) {
		n := 0
		err := conn.QueryRowContext(ctx, "select count(*) from information_schema.tables where table_schema = database()").Scan(&n)
		if err == nil && n == 0 {
			return "no table or view may be read", errors.New("nothing to read")
		}
		return fmt.Sprintf("%d tables and views may be read", n), err
	}, func(error) string { return "Ask for the right to select" })
}

func encrypted(ctx context.Context, conn *sql.Conn, why string) string {
	if why != "" {
		return why
	}
	if conn != nil {
		var name, version string
		if err := conn.QueryRowContext(ctx, "show session status like 'Ssl_version'").Scan(&name, &version); err == nil && version != "" {
			return version
		}
		return "not used"
	}
	return "not known"
}

func signedIn(c *mysql.Config, err error) string {
	var refused *mysql.MySQLError
	switch {
	case errors.As(err, &refused):
		return refused.Message
	case err != nil:
		return "the server ended the connection"
	}
	return fmt.Sprintf("as %s, to the database %s", c.User, c.DBName)
}

// The server's error numbers that are told apart (MariaDB Error Codes).
const (
	accessDenied   = 1045
	dbDenied       = 1044
	unknownDB      = 1049
	duplicate      = 1062
	noParent       = 1452
	hasChildren    = 1451
	deadlock       = 1213
	lockTimeout    = 1205
	tooMany        = 1040
	shuttingDown   = 1053
	checkViolated  = 4025
	badNull        = 1048
	noDefault      = 1364
	tooLong        = 1406
	outOfRange     = 1264
	wrongValue     = 1366
	wrongDateValue = 1292
	signalled      = 1644
)

func mendOf(err error) string {
	var refused *mysql.MySQLError
	if errors.As(err, &refused) {
		switch refused.Number {
		case accessDenied:
			return "The password is wrong, or the user is unknown"
		case unknownDB, dbDenied:
			return "The server has no database of this name, or the user may not see it"
		case tooMany:
			return "The server has as many connections as it allows"
		}
	}
	return "Check user, password and database"
}

// aboutRow are the errors that are about one row's data.
var aboutRow = map[uint16]bool{
	duplicate: true, noParent: true, hasChildren: true, checkViolated: true, badNull: true, noDefault: true, tooLong: true, outOfRange: true,
	wrongValue: true, wrongDateValue: true, signalled: true,
}

var passing = map[uint16]bool{deadlock: true, lockTimeout: true, tooMany: true, shuttingDown: true}

// told tells a statement that can never work from a database that cannot be reached now.
func told(err error) error {
	var refused *mysql.MySQLError
	if !errors.As(err, &refused) || passing[refused.Number] {
		return err
	}
	if refused.Number == accessDenied {
		return fault.New(fault.Setting, "the database does not take the sign-in").WithFix("%s", mendOf(err))
	}
	return fault.New(fault.Setting, "the database refuses the statement: %s", refused.Message)
}

// ident quotes a name of one or two parts.
func ident(name string) string {
	parts := strings.Split(name, ".")
	for i, p := range parts {
		parts[i] = column(p)
	}
	return strings.Join(parts, ".")
}

func column(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }
