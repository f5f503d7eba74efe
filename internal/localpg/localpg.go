// Package localpg runs a PostgreSQL server of its own from Debian's packages: a private cluster
// in a folder, on loopback and a free port, beside any other server of the machine. PostgreSQL
// refuses to run as root; then it runs as the user postgres.
package localpg

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/child"
)

// Server is a running cluster.
type Server struct {
	bin      string
	who      *syscall.Credential
	options  Options
	Port     int
	dir      string
	password string
	process  *child.Process
	log      *os.File
}

// Options of Start.
type Options struct {
	Durable bool // wait for the disk at each commit; tests need not
}

// ErrMissing says that no server is installed.
var ErrMissing = errors.New("PostgreSQL is not installed: apt-get install postgresql")

// Binaries finds the folder with the newest installed server.
func Binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		if path, err := exec.LookPath("postgres"); err == nil {
			return filepath.Dir(path), nil
		}
		return "", ErrMissing
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	v, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return v
}

// owner is the user under which the server runs; nil is the present one.
func owner() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, errors.New("PostgreSQL does not run as root and there is no user postgres")
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// Start starts the cluster in dir, which is created on first use. It waits until it answers.
func Start(ctx context.Context, dir string, o Options) (*Server, error) {
	bin, err := Binaries()
	if err != nil {
		return nil, err
	}
	who, err := owner()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil { // the server's programs run in the root folder
		return nil, err
	}
	s := &Server{dir: dir, bin: bin, who: who, options: o}
	if err := s.init(bin, who); err != nil {
		return nil, err
	}
	for range 3 { // another program may take the free port first
		if s.Port, err = freePort(); err != nil {
			return nil, err
		}
		if err = s.start(ctx); err == nil {
			return s, nil
		}
	}
	return nil, err
}

// Restart stops the server and starts it again after a time, at the same port.
func (s *Server) Restart(ctx context.Context, away time.Duration) error {
	s.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(away):
	}
	return s.start(ctx)
}

func (s *Server) init(bin string, who *syscall.Credential) error {
	secret := filepath.Join(s.dir, "password")
	if raw, err := os.ReadFile(secret); err == nil {
		s.password = string(raw)
		return nil
	}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	if who != nil {
		if err := os.Chown(s.dir, int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	// Without a password the cluster was never finished: what is there of it is begun anew.
	if err := os.RemoveAll(filepath.Join(s.dir, "data")); err != nil {
		return err
	}
	raw := make([]byte, 18)
	rand.Read(raw)
	s.password = hex.EncodeToString(raw)
	pwfile := filepath.Join(s.dir, "initial")
	if err := os.WriteFile(pwfile, []byte(s.password), 0o600); err != nil {
		return err
	}
	defer os.Remove(pwfile)
	if who != nil {
		if err := os.Chown(pwfile, int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	cmd := exec.Command(filepath.Join(bin, "initdb"), "-D", filepath.Join(s.dir, "data"), "-U", "hollowreed",
		"--auth=scram-sha-256", "--pwfile="+pwfile, "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("the database cannot be set up in %s: %s", s.dir, bytes.TrimSpace(out))
	}
	return os.WriteFile(secret, []byte(s.password), 0o600)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (s *Server) start(ctx context.Context) (err error) {
	fsync := "off"
	if s.options.Durable {
		fsync = "on"
	}
	cmd := exec.Command(filepath.Join(s.bin, "postgres"), "-D", filepath.Join(s.dir, "data"),
		"-p", strconv.Itoa(s.Port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "fsync="+fsync, "-c", "max_connections=200", "-c", "timezone=UTC", "-c", "log_min_messages=warning")
	cmd.Dir = "/"
	if s.log, err = os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600); err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = s.log, s.log
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.who, Setpgid: true} // a group of its own keeps the terminal's Ctrl-C from it
	if s.process, err = child.Start(cmd, syscall.SIGINT); err != nil {
		return err
	}
	return s.await(ctx)
}

func (s *Server) await(ctx context.Context) error {
	deadline := time.Now().Add(30 * time.Second)
	for {
		conn, err := pgx.Connect(ctx, s.URL("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-s.process.Ended():
			return fmt.Errorf("the database does not start (%w); see %s", s.process.Wait(), filepath.Join(s.dir, "log"))
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			s.Stop()
			return fmt.Errorf("the database does not answer: %w", err)
		}
	}
}

// URL is the address of a database of the cluster. It holds the password.
func (s *Server) URL(database string) string {
	u := url.URL{
		Scheme: "postgres", User: url.UserPassword("hollowreed", s.password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.Port)), Path: "/" + database, RawQuery: "sslmode=disable",
	}
	return u.String()
}

// Create makes a database if there is none of that name, and gives its address.
func (s *Server) Create(ctx context.Context, database string) (string, error) {
	return CreateIn(ctx, s.URL("postgres"), database)
}

// CreateIn makes a database beside another one if there is none of that name, and gives its address.
func CreateIn(ctx context.Context, admin, database string) (string, error) {
	conn, err := pgx.Connect(ctx, admin)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, "select exists (select 1 from pg_database where datname = $1)", database).Scan(&there); err != nil {
		return "", err
	}
	if !there {
		if _, err := conn.Exec(ctx, "create database "+pgx.Identifier{database}.Sanitize()); err != nil {
			return "", err
		}
	}
	u, err := url.Parse(admin)
	if err != nil || !strings.HasPrefix(u.Scheme, "postgres") {
		return "", errors.New("the database address must be a postgres:// URL")
	}
	u.Path = "/" + database
	return u.String(), nil
}

// CreateOwned is CreateIn for a database with a role of its own, who may do nothing beyond it; the address signs in as that role,
// with a password that is made anew each time. What was in the database before becomes the role's.
func CreateOwned(ctx context.Context, admin, database, role string) (string, error) {
	address, err := CreateIn(ctx, admin, database)
	if err != nil {
		return "", err
	}
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	raw := make([]byte, 18)
	rand.Read(raw)
	password := hex.EncodeToString(raw)
	who, what := pgx.Identifier{role}.Sanitize(), pgx.Identifier{database}.Sanitize()
	var there bool
	if err := conn.QueryRow(ctx, "select exists (select 1 from pg_roles where rolname = $1)", role).Scan(&there); err != nil {
		return "", err
	}
	verb := "create"
	if there {
		verb = "alter"
	}
	for _, sql := range []string{
		verb + " role " + who + " login nosuperuser nocreatedb nocreaterole noreplication nobypassrls password '" + password + "'", // hexadecimal digits
		"alter database " + what + " owner to " + who,
		"revoke all on database " + what + " from public",
		"alter schema public owner to " + who,
		fmt.Sprintf(giveAway, pgx.Identifier{role}.Sanitize()),
	} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return "", fmt.Errorf("the database %s cannot be given to a role of its own: %w", database, err)
		}
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	u.User = url.UserPassword(role, password)
	return u.String(), nil
}

// giveAway makes all that stands in the schema public a role's.
const giveAway = `do $$
declare
	one text;
begin
	for one in
		select format('alter table %%s', oid::regclass) from pg_class where relnamespace = 'public'::regnamespace and relkind in ('r', 'p', 'v', 'm', 'S') and relowner <> '%[1]s'::regrole
			and not exists (select from pg_depend where objid = pg_class.oid and deptype in ('a', 'i'))
		union all
		select format('alter routine %%s', oid::regprocedure) from pg_proc where pronamespace = 'public'::regnamespace and proowner <> '%[1]s'::regrole
		union all
		select format('alter type %%s', oid::regtype) from pg_type where typnamespace = 'public'::regnamespace and typtype in ('e', 'd') and typowner <> '%[1]s'::regrole
	loop
		execute one || ' owner to %[1]s';
	end loop;
end $$`

// Stop ends the server: sessions are closed, what is committed is kept.
func (s *Server) Stop() {
	if s == nil || s.process == nil {
		return
	}
	s.process.Process.Signal(syscall.SIGINT)
	select {
	case <-s.process.Ended():
	case <-time.After(20 * time.Second):
		s.process.Process.Kill()
		s.process.Wait()
	}
	s.log.Close()
}

// Reachable says whether the user under which the server runs can reach a folder's parents.
func Reachable(dir string) bool {
	if os.Geteuid() != 0 {
		return true
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return false
	}
	for p := filepath.Dir(abs); ; p = filepath.Dir(p) {
		if info, err := os.Stat(p); err == nil && info.Mode().Perm()&0o001 == 0 {
			return false
		}
		if p == "/" {
			return true
		}
	}
}
