// Package app puts the product together: the server with its screens, workers, and the demo that
// starts everything with the demo project.
package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/spf13/cobra"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/secret"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
	"hollowreed/internal/web"
	"hollowreed/internal/web/page"
)

// Demo names.
const (
	DemoProject = "skerry"
	DemoTitle   = "Skerry Line"
	Workbench   = "Workbench"
)

// DemoPerson is who is signed in in the demo.
var DemoPerson = store.Person{ID: "mira", Name: "Mira Orrin", Initials: "MO"}

// keyVariable holds the key of the secrets in place of a key file.
const keyVariable = "HOLLOWREED_KEY"

type flags struct {
	database, settings, listen, data string
	project, env, keyFile            string
	allow, refuse                    string
	roots                            []string
	rules                            connector.Rules
	vault                            *vault.Vault
	batch                            int
	beat, silence, rest              time.Duration
	verbose                          bool
	logs, metrics                    string
	figures                          int
}

// Commands are those that need a server.
func Commands() []*cobra.Command {
	return []*cobra.Command{serveCommand(), workerCommand(), demoCommand(), standinCommand(), secretsCommand()}
}

func (f *flags) common(c *cobra.Command) {
	c.Flags().StringVar(&f.database, "database", os.Getenv("DATABASE_URL"), "address of the PostgreSQL database, or DATABASE_URL")
	c.Flags().StringVar(&f.settings, "settings", "", "YAML file with the settings of each connection, in place of those in the database")
	c.Flags().StringVar(&f.env, "environment", Workbench, "environment whose settings are used: "+strings.Join(page.Environments, ", "))
	c.Flags().StringVar(&f.keyFile, "key-file", "hollowreed.key", "file with the key of the secrets, made where there is none; or "+keyVariable)
	c.Flags().StringSliceVar(&f.roots, "roots", nil, "folders below which connections may read and write; all where none is named")
	c.Flags().StringVar(&f.refuse, "refuse", "", "ranges of addresses that connections may not reach, as 10.0.0.0/8,127.0.0.0/8; link-local ones always")
	c.Flags().StringVar(&f.allow, "allow", "", "addresses with port that they may reach in spite of that, as 127.0.0.1:5432; port 0 is every port")
	c.Flags().BoolVar(&f.verbose, "verbose", false, "log every run and every request")
	c.Flags().StringVar(&f.logs, "log", "text", "how the log is written: text, json")
	c.Flags().IntVar(&f.figures, "figures", 400, "days for which figures are kept")
	c.Flags().IntVar(&f.batch, "batch", 0, "records of one batch (500)")
	c.Flags().DurationVar(&f.beat, "beat", 0, "time between two signs of life (1s)")
	c.Flags().DurationVar(&f.silence, "silence", 0, "time after which a worker is taken for dead (6s)")
	c.Flags().DurationVar(&f.rest, "rest", 0, "how long a file must not change before it is picked up (1.5s)")
}

func (f *flags) log(w io.Writer) *slog.Logger {
	level := slog.LevelWarn
	if f.verbose {
		level = slog.LevelDebug
	}
	o := &slog.HandlerOptions{Level: level}
	if f.logs == "json" {
		return slog.New(slog.NewJSONHandler(w, o))
	}
	return slog.New(slog.NewTextHandler(w, o))
}

func (f *flags) engine(db *pgxpool.Pool, outside *connector.Pool, log *slog.Logger) (*engine.Engine, error) {
	return engine.New(db, outside, engine.Options{Batch: f.batch, Beat: f.beat, Silence: f.silence, Rest: f.rest, Log: log, Project: f.project, Env: f.env, Traces: tracesWanted(), Figures: time.Duration(f.figures) * 24 * time.Hour})
}

// untilStopped is a context that ends with Ctrl-C or a polite request to stop.
func untilStopped(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
}

func workerCommand() *cobra.Command {
	var f flags
	c := &cobra.Command{
		Use: "worker", Short: "Run flows, without screens", Args: cobra.NoArgs,
		Long: "Takes on runs from the database and watches the triggers. As many workers as are wanted may run.",
		RunE: f.connected(func(ctx context.Context, cmd *cobra.Command, db *pgxpool.Pool, outside *connector.Pool) error {
			e, err := f.engine(db, outside, f.log(cmd.ErrOrStderr()))
			if err != nil {
				return err
			}
			if err := e.Start(ctx); err != nil {
				return err
			}
			if f.metrics != "" {
				at, err := serveMetrics(ctx, f.metrics, e.Metrics())
				if err != nil {
					e.Stop()
					return err
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "metrics at http://%s/metrics\n", at)
			}
			fmt.Fprintln(cmd.ErrOrStderr(), "worker", e.ID, "is ready")
			<-ctx.Done()
			e.Stop()
			return nil
		}),
	}
	f.common(c)
	c.Flags().StringVar(&f.metrics, "metrics", "", "loopback address on which metrics are served for Prometheus; none where it is empty")
	return c
}

// connected makes a command of something that works with the database and the connections until it
// is asked to stop.
func (f *flags) connected(do func(context.Context, *cobra.Command, *pgxpool.Pool, *connector.Pool) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, _ []string) error {
		ctx, stop := untilStopped(cmd.Context())
		defer stop()
		db, outside, err := f.open(ctx)
		if err != nil {
			return err
		}
		defer db.Close()
		defer outside.Close()
		sendRest, err := traces(ctx)
		if err != nil {
			return err
		}
		defer sendRest()
		return do(ctx, cmd, db, outside)
	}
}

func (f *flags) open(ctx context.Context) (*pgxpool.Pool, *connector.Pool, error) {
	if f.database == "" {
		return nil, nil, errors.New("no database: give --database or set DATABASE_URL")
	}
	db, err := store.Open(ctx, f.database)
	if err != nil {
		return nil, nil, err
	}
	projects, err := store.Projects(ctx, db)
	if err == nil && len(projects) == 0 {
		err = errors.New("the database holds no project; make demo loads one")
	}
	var outside *connector.Pool
	if err == nil {
		f.project = projects[0]
		outside, err = f.connections(db)
	}
	if err != nil {
		db.Close()
		return nil, nil, err
	}
	return db, outside, nil
}

// connections are those of the project in the environment, with their settings and secrets in the database,
// or, where a settings file is named, as that says.
func (f *flags) connections(db *pgxpool.Pool) (*connector.Pool, error) {
	var err error
	if f.rules, err = f.allowed(); err != nil {
		return nil, err
	}
	if f.settings != "" {
		fixed, err := connector.ReadFixed(f.settings)
		return connector.NewPool(fixed, f.rules), err
	}
	if err := f.openVault(db); err != nil {
		return nil, err
	}
	return connector.NewPool(f.vault, f.rules), nil
}

// openVault opens the vault with the key of the environment, or that of the key file.
func (f *flags) openVault(db *pgxpool.Pool) error {
	var ring *secret.Ring
	var err error
	if text := os.Getenv(keyVariable); text != "" {
		ring, err = secret.Parse(text)
	} else {
		ring, err = secret.Load(f.keyFile)
	}
	if err != nil {
		return fmt.Errorf("the key of the secrets: %w", err)
	}
	f.vault = &vault.Vault{DB: db, Ring: ring, Project: f.project, Env: f.env}
	return nil
}

// allowed are the rules of the flags on what may be reached.
func (f *flags) allowed() (connector.Rules, error) {
	n, err := system.NewNet(f.refuse, f.allow)
	return connector.Rules{Net: n, Roots: f.roots}, err
}

func serveCommand() *cobra.Command {
	var f flags
	c := &cobra.Command{
		Use: "serve", Short: "Serve the screens, and run flows", Args: cobra.NoArgs,
		Long: "Serves the project in the database on an address of this machine, and works as a worker, too.",
		RunE: f.connected(func(ctx context.Context, cmd *cobra.Command, db *pgxpool.Pool, outside *connector.Pool) error {
			if err := store.AddPerson(ctx, db, DemoPerson); err != nil {
				return err
			}
			return f.serve(ctx, cmd.ErrOrStderr(), db, outside, nil)
		}),
	}
	f.common(c)
	c.Flags().StringVar(&f.listen, "listen", "127.0.0.1:8420", "loopback address to serve on")
	return c
}

// serve runs the engine and the screens; ready is told the address once both work.
func (f *flags) serve(ctx context.Context, errs io.Writer, db *pgxpool.Pool, outside *connector.Pool, ready func(address string) error) error {
	l, err := listen(f.listen)
	if err != nil {
		return err
	}
	defer l.Close()
	log := f.log(errs)
	if f.vault == nil {
		if err := f.openVault(db); err != nil {
			return err
		}
	}
	e, err := f.engine(db, outside, log)
	if err != nil {
		return err
	}
	if err := e.Start(ctx); err != nil {
		return err
	}
	defer e.Stop()
	site := &page.Site{
		DB: db, Engine: e, Outside: outside, Rules: f.rules, Vault: f.vault, Hub: page.NewHub(ctx, db), Log: log,
		Project: f.project, Person: DemoPerson, Env: f.env,
	}
	address := "http://" + l.Addr().String() + "/"
	if ready == nil {
		fmt.Fprintln(errs, "Hollow Reed is ready at", address)
	} else if err := ready(address); err != nil {
		return err
	}
	return web.Serve(ctx, l, web.Handler(site))
}

// listen takes loopback addresses only.
func listen(address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("--listen: %w", err)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("--listen: %s is not a loopback address; there is no sign-in yet, so nothing is served beyond this machine", host)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%w; choose another address with --listen", err)
	}
	return l, nil
}

// LoadDemo loads a project folder into an empty database and releases its flows.
func LoadDemo(ctx context.Context, db *pgxpool.Pool, e *engine.Engine, texts map[string]string) error {
	if err := store.AddPerson(ctx, db, DemoPerson); err != nil {
		return err
	}
	created := false
	err := pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		var err error
		created, err = store.AddProject(ctx, tx, DemoProject, DemoTitle, texts, DemoPerson.ID)
		return err
	})
	if err != nil || !created {
		return err
	}
	for _, part := range project.Load(DemoProject, texts).Parts(project.Flows) {
		if _, err := e.MakeRelease(ctx, DemoProject, part.ID, "First light", DemoPerson.ID); err != nil {
			return err
		}
	}
	return nil
}

func folder(parts ...string) (string, error) {
	path := filepath.Join(parts...)
	return path, os.MkdirAll(path, 0o755)
}
