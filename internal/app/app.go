// Package app puts the product together: the server with its screens, workers, and the demo that
// starts everything with the demo project.
package app

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/spf13/cobra"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/secret"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
	"hollowreed/internal/web"
	"hollowreed/internal/web/inbound"
	"hollowreed/internal/web/page"
)

// Demo names.
const (
	DemoProject = "skerry"
	DemoTitle   = "Skerry Line"
)

// Demo is what the demo runs.
var Demo = store.Scope{Project: DemoProject, Environment: store.Environments[0]}

// DemoPerson is who is signed in in the demo.
var DemoPerson = store.Person{ID: "mira", Name: "Mira Orrin", Initials: "MO"}

// keyFile is where the key of the secrets is, unless another file is named.
const keyFile = "hollowreed.key"

type flags struct {
	database, databaseFile, key string
	settings, listen, calls     string
	callsCertificate, callsKey  string         // files; without them calls come in as HTTP
	callsTrust                  *x509.CertPool // by which that is known
	trustsProxy                 bool
	data                        string
	project                     string // of import and export
	env, keyFile                string
	allow, refuse               string
	roots, folders              []string         // folders: those below the data that may be used beside files
	product                     string           // address of the product's own database, where that is not database
	listening                   []netip.AddrPort // where this program listens
	rules                       connector.Rules
	vault                       *vault.Vault
	batch                       int
	beat, silence, rest         time.Duration
	front                       *pgxpool.Pool // for those who call and look
	verbose                     bool
	logs, metrics               string
	figures                     int
}

// Commands are those that need a server.
func Commands() []*cobra.Command {
	return []*cobra.Command{serveCommand(), workerCommand(), importCommand(), exportCommand(), demoCommand(), secretsCommand()}
}

func (f *flags) common(c *cobra.Command) {
	f.named(c)
	c.Flags().StringVar(&f.settings, "settings", "", "YAML file with the settings of each connection, in place of those in the database")
	c.Flags().StringVar(&f.env, "environment", store.Environments[0], "environment whose runs are done, with its settings and secrets: "+strings.Join(store.Environments, ", "))
	c.Flags().StringVar(&f.keyFile, "key-file", keyFile, "file with the key of the secrets, made where there is none; or "+keyVariable)
	c.Flags().StringSliceVar(&f.roots, "roots", nil, "folders below which connections may read and write; the folder files of the data where none is named")
	c.Flags().StringVar(&f.data, "data", "hollowreed-data", "folder of what the program keeps itself: a private database, where no other one is named, and files")
	c.Flags().StringVar(&f.refuse, "refuse", "", "ranges of addresses that connections may not reach, as 10.0.0.0/8,127.0.0.0/8; link-local ones always")
	c.Flags().StringVar(&f.allow, "allow", "", "addresses with port that they may reach in spite of that, as 127.0.0.1:5432; port 0 is every port")
	c.Flags().BoolVar(&f.verbose, "verbose", false, "log every run and every request")
	c.Flags().StringVar(&f.logs, "log", "text", "how the log is written: text, json")
	c.Flags().IntVar(&f.figures, "figures", 400, "days for which figures are kept")
	c.Flags().IntVar(&f.batch, "batch", 0, "records of one batch (500)")
	c.Flags().DurationVar(&f.beat, "beat", 0, "time between two signs of life (2.5s)")
	c.Flags().DurationVar(&f.silence, "silence", 0, "time after which a worker is taken for dead (7.5s)")
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

// called adds the flag of the address for calls.
func (f *flags) called(c *cobra.Command) {
	c.Flags().StringVar(&f.calls, "calls", "127.0.0.1:8421", "loopback address at which requests that start flows come in")
	c.Flags().StringVar(&f.callsCertificate, "calls-certificate", "", "file with a certificate in PEM: calls come in by TLS, and callers can show certificates")
	c.Flags().StringVar(&f.callsKey, "calls-key", "", "file with its private key")
	c.Flags().BoolVar(&f.trustsProxy, "proxy-tells-certificates", false, "the proxy before --calls tells certificates of callers in the header Client-Cert (RFC 9440), and takes those of others out")
}

// address is where the pages are served; empty for a worker, which serves none.
func (f *flags) address() string {
	if f.listen == "" {
		return ""
	}
	return "http://" + f.listen
}

func (f *flags) engine(db *pgxpool.Pool, outside *engine.Connections, log *slog.Logger) (*engine.Engine, error) {
	CollectSeldom()
	return engine.New(db, outside, engine.Options{Batch: f.batch, Heartbeat: f.beat, Silence: f.silence, StableFor: f.rest, Log: log, Env: f.env, Site: f.address(), Front: f.front, Traces: tracesWanted(), MetricRetention: time.Duration(f.figures) * 24 * time.Hour})
}

// untilStopped is a context that ends with Ctrl-C or a polite request to stop.
func untilStopped(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
}

func workerCommand() *cobra.Command {
	var f flags
	c := &cobra.Command{
		Use: "worker", Short: "Run flows, without screens", Args: cobra.NoArgs,
		Long: "Takes on the runs of an environment from the database, of all projects, and watches their triggers. As many workers as are\nwanted may run, of as many environments.",
		RunE: f.connected(func(ctx context.Context, cmd *cobra.Command, db *pgxpool.Pool, outside *engine.Connections) error {
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
func (f *flags) connected(do func(context.Context, *cobra.Command, *pgxpool.Pool, *engine.Connections) error) func(*cobra.Command, []string) error {
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

func (f *flags) open(ctx context.Context) (*pgxpool.Pool, *engine.Connections, error) {
	if f.database == "" {
		return nil, nil, errors.New("no database: give --database or --database-file, or set " + databaseVariable)
	}
	db, err := store.Open(ctx, f.database)
	if err != nil {
		return nil, nil, err
	}
	projects, err := store.Projects(ctx, db)
	if err == nil && len(projects) == 0 {
		err = errors.New("the database holds no project yet: hollowreed serve begins one, hollowreed import FOLDER brings one")
	}
	var outside *engine.Connections
	if err == nil {
		outside, err = f.connections(db)
	}
	if err != nil {
		db.Close()
		return nil, nil, err
	}
	return db, outside, nil
}

// connections are those of all projects in all environments, with their settings and secrets in the database; those in the
// environment that is served, where a settings file is named, as that says.
func (f *flags) connections(db *pgxpool.Pool) (*engine.Connections, error) {
	if !slices.Contains(store.Environments, f.env) {
		return nil, fault.Expect(fault.Setting, "one of "+strings.Join(store.Environments, ", "), fault.Quote(f.env)).InField("--environment")
	}
	var err error
	if f.rules, err = f.allowed(); err != nil {
		return nil, err
	}
	var fixed connector.StaticSettings
	if f.settings != "" {
		if fixed, err = connector.ReadStaticSettings(f.settings); err != nil {
			return nil, err
		}
	}
	if fixed == nil || f.listen != "" { // pages show the settings and secrets of all environments
		if err := f.openVault(db); err != nil {
			return nil, err
		}
	}
	return connector.NewPools(func(s store.Scope) connector.Source {
		if fixed != nil && (f.vault == nil || s.Environment == f.env) {
			return fixed
		}
		return f.vault.Of(s)
	}, f.rules), nil
}

// openVault opens the vault with the key of the environment, or that of the key file.
func (f *flags) openVault(db *pgxpool.Pool) error {
	var ring *secret.Keyring
	var err error
	if f.key != "" {
		ring, err = secret.Parse(f.key)
	} else {
		ring, err = secret.Load(f.keyFile)
	}
	if err != nil {
		return fmt.Errorf("the key of the secrets: %w", err)
	}
	f.vault = &vault.Vault{DB: db, Ring: ring}
	return nil
}

// allowed are the rules of the flags on what may be reached: never what this program keeps for itself, and never itself.
func (f *flags) allowed() (connector.Rules, error) {
	n, err := system.NewNet(f.refuse, f.allow)
	if err != nil {
		return connector.Rules{}, err
	}
	rules := connector.Rules{Net: n, Roots: f.roots}
	if rules.Own, n.Database, err = databaseAt(cmp.Or(f.product, f.database)); err != nil {
		return rules, err
	}
	n.Own = f.listening
	for _, path := range []string{f.keyFile, clusterDir(f.data)} {
		abs, err := filepath.Abs(path)
		if err != nil {
			return rules, err
		}
		rules.Never = append(rules.Never, abs)
	}
	if len(rules.Roots) > 0 {
		return rules, nil
	}
	for _, name := range append([]string{"files"}, f.folders...) {
		path, err := folder(f.data, name)
		if err == nil {
			path, err = filepath.Abs(path)
		}
		if err != nil {
			return rules, err
		}
		rules.Roots = append(rules.Roots, path)
	}
	return rules, nil
}

// databaseAt is the name of a database, and the addresses at which its server is.
func databaseAt(address string) (name string, at []netip.AddrPort, err error) {
	c, err := pgx.ParseConfig(address)
	if err != nil {
		return "", nil, errors.New("the database address cannot be read")
	}
	list, err := net.LookupHost(c.Host)
	if err != nil {
		return c.Database, nil, nil // a socket, which connections do not reach
	}
	for _, host := range list {
		if a, err := netip.ParseAddr(host); err == nil {
			at = append(at, netip.AddrPortFrom(a.Unmap(), c.Port))
		}
	}
	return c.Database, at, nil
}

func serveCommand() *cobra.Command {
	var f flags
	c := &cobra.Command{
		Use: "serve", Short: "Serve the screens, and run flows", Args: cobra.NoArgs,
		Long: `Serves the projects in the database on an address of this machine, and works as a worker, too. Without
a database a private one is started in the data folder. Where there is no project yet, the page that is
served begins one: an empty one, or one that is brought.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := untilStopped(cmd.Context())
			defer stop()
			return f.own(ctx, cmd.ErrOrStderr())
		},
	}
	f.common(c)
	c.Flags().StringVar(&f.listen, "listen", "127.0.0.1:8420", "loopback address to serve on")
	f.called(c)
	return c
}

// private starts a database of the program's own in the data folder, where no other one is named; stop ends it.
func (f *flags) private(ctx context.Context) (stop func(), err error) {
	if f.database != "" {
		return func() {}, nil
	}
	data, err := folder(f.data)
	if err != nil {
		return nil, err
	}
	unlock, err := lock(data)
	if err != nil {
		return nil, err
	}
	server, err := localpg.Start(ctx, clusterDir(data), localpg.Options{Durable: true})
	if err == nil {
		f.database, err = localpg.CreateIn(ctx, server.URL("postgres"), "hollowreed")
	}
	if err != nil {
		unlock()
		return nil, err
	}
	if f.keyFile == keyFile {
		f.keyFile = filepath.Join(data, "key")
	}
	return func() { server.Stop(); unlock() }, nil
}

// own serves the projects of the database; while there is none, the page on which one is begun.
func (f *flags) own(ctx context.Context, errs io.Writer) error {
	stop, err := f.private(ctx)
	if err != nil {
		return err
	}
	defer stop()
	db, err := store.Open(ctx, f.database)
	if err != nil {
		return err
	}
	defer db.Close()
	sendRest, err := traces(ctx)
	if err != nil {
		return err
	}
	defer sendRest()
	if err := store.AddPerson(ctx, db, DemoPerson); err != nil {
		return err
	}
	projects, err := store.Projects(ctx, db)
	if err != nil {
		return err
	}
	if len(projects) > 0 {
		outside, err := f.connections(db)
		if err != nil {
			return err
		}
		defer outside.Close()
		return f.serve(ctx, errs, db, outside, nil)
	}
	return f.welcome(ctx, errs, db)
}

// welcome serves the page on which a project is begun, and then the project.
func (f *flags) welcome(ctx context.Context, errs io.Writer, db *pgxpool.Pool) error {
	l, calls, err := f.listeners()
	if err != nil {
		return err
	}
	defer l.Close()
	defer calls.Close()
	stop := func() {}
	defer func() { stop() }()
	w := &web.Welcome{Person: DemoPerson, Begin: func(_ context.Context, title string, texts map[string]string) (http.Handler, error) {
		if _, err := AddProject(ctx, db, title, texts); err != nil {
			return nil, err
		}
		outside, err := f.connections(db)
		if err != nil {
			return nil, err
		}
		sites, end, err := f.sites(ctx, errs, db, outside)
		if err != nil {
			outside.Close()
			return nil, err
		}
		stop = func() { end(); outside.Close() }
		go web.Serve(ctx, calls, inbound.Handler(sites))
		return web.Handler(sites), nil
	}}
	fmt.Fprintf(errs, "Hollow Reed is ready at http://%s/ and holds no project yet: begin one there\n", l.Addr())
	return web.Serve(ctx, l, w)
}

// AddProject adds a project with its parts, and gives its id.
func AddProject(ctx context.Context, db *pgxpool.Pool, title string, texts map[string]string) (string, error) {
	id := idOf(title)
	return id, addProject(ctx, db, id, title, texts)
}

// idOf is the id of a project of a title.
func idOf(title string) string { return cmp.Or(design.ID(title), "project") }

func addProject(ctx context.Context, db *pgxpool.Pool, id, title string, texts map[string]string) error {
	if id != design.ID(id) {
		return fault.Expect(fault.Setting, "an id of small letters, digits, and hyphens between", fault.Quote(id)).InField("--project")
	}
	return pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		_, err := store.AddProject(ctx, tx, id, title, texts, DemoPerson.ID)
		return err
	})
}

// listeners listen for the pages and for the calls.
func (f *flags) listeners() (pages, calls net.Listener, err error) {
	if pages, err = listen("--listen", f.listen); err != nil {
		return nil, nil, err
	}
	if calls, err = listen("--calls", f.calls); err != nil {
		pages.Close()
		return nil, nil, err
	}
	f.listen, f.calls = pages.Addr().String(), calls.Addr().String()
	for _, address := range []string{f.listen, f.calls} {
		f.listening = append(f.listening, netip.MustParseAddrPort(address))
	}
	if f.rules.Net != nil {
		f.rules.Net.Own = f.listening
	}
	if f.callsCertificate == "" {
		return pages, calls, nil
	}
	taken, trust, err := (&callsTLS{certificate: f.callsCertificate, key: f.callsKey}).wrap(calls)
	if err != nil {
		pages.Close()
		calls.Close()
		return nil, nil, err
	}
	f.callsTrust = trust
	return pages, taken, nil
}

// callsAddress is where calls come in.
func (f *flags) callsAddress() string {
	if f.callsTrust != nil {
		return "https://" + f.calls
	}
	return "http://" + f.calls
}

// sites starts the engine and gives what the screens show; end stops the engine. The runs have connections to the database of their
// own, which nobody who calls or looks takes from them.
func (f *flags) sites(ctx context.Context, errs io.Writer, db *pgxpool.Pool, outside *engine.Connections) (s *page.Sites, end func(), err error) {
	log := f.log(errs)
	runs, err := pgxpool.NewWithConfig(ctx, db.Config())
	if err != nil {
		return nil, nil, err
	}
	f.front = db
	e, err := f.engine(runs, outside, log)
	if err == nil {
		err = e.Start(ctx)
	}
	if err != nil {
		runs.Close()
		return nil, nil, err
	}
	return &page.Sites{Shared: page.Shared{
		DB: db, Engine: e, Pools: outside, Vault: f.vault, Hub: page.NewHub(ctx, db), Log: log,
		Person: DemoPerson, Environment: f.env, Address: f.address(), Calls: f.callsAddress(), CallsTrust: f.callsTrust, TrustsProxy: f.trustsProxy,
	}}, func() { e.Stop(); runs.Close() }, nil
}

// serve runs the engine and the screens; ready is told the address once both work.
func (f *flags) serve(ctx context.Context, errs io.Writer, db *pgxpool.Pool, outside *engine.Connections, ready func(address string) error) error {
	l, calls, err := f.listeners()
	if err != nil {
		return err
	}
	defer l.Close()
	defer calls.Close()
	sites, end, err := f.sites(ctx, errs, db, outside)
	if err != nil {
		return err
	}
	defer end()
	go web.Serve(ctx, calls, inbound.Handler(sites))
	address := "http://" + l.Addr().String() + "/"
	if ready == nil {
		fmt.Fprintln(errs, "Hollow Reed is ready at", address, "and takes calls at", sites.Calls+inbound.Prefix)
	} else if err := ready(address); err != nil {
		return err
	}
	return web.Serve(ctx, l, web.Handler(sites))
}

// listen takes loopback addresses only; flag is the one that names the address.
func listen(flag, address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", flag, err)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("%s: %s is not a loopback address; there is no sign-in yet, so nothing is served beyond this machine", flag, host)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%w; choose another address with %s", err, flag)
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
	p := project.Load(DemoProject, texts)
	for _, part := range slices.Concat(p.Parts(project.Channels), p.Parts(project.Flows), p.Parts(project.APIs)) {
		if _, err := e.CreateRelease(ctx, Demo, project.ReleaseID(part.Kind, part.ID), "First light", DemoPerson.ID); err != nil {
			return err
		}
	}
	return nil
}

func folder(parts ...string) (string, error) {
	path := filepath.Join(parts...)
	return path, os.MkdirAll(path, 0o755)
}
